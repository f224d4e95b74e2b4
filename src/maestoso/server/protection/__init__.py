"""Groups and their points."""
