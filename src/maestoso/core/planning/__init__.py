"""Plan to step graph: what a run of one kind will do, before it starts."""
