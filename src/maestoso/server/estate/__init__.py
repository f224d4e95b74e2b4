"""Sites and what they have."""
