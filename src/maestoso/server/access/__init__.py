"""Who may come in."""
