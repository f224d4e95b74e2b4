"""Set-up, launcher, locks, processes and the private database."""
