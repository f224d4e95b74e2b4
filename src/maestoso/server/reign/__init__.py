"""Who conducts for this installation: every takeover begins a reign, and sites refuse those that are past."""
