"""Second signatures: what needs them, who asked, and what was answered."""
