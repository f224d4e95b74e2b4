"""Backups of the whole installation: made by the keeper or a person, checked by loading them, restored."""
