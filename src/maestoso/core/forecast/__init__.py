"""How long it would take, with its spread, from what earlier runs took."""
