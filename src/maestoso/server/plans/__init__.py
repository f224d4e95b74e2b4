"""Recovery plans, their versions and what they would do."""
