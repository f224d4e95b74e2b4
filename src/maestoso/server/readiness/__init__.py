"""What plans would do: findings, forecast, preflight, start and rehearsal, and the world around them."""
