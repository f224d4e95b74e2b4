"""Who is told of what, over which channel, and what became of it."""
