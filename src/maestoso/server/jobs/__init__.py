"""Jobs: what takes long is written down, done by a worker, and kept until whoever asked has taken it."""
