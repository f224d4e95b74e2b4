"""Who may do what."""
