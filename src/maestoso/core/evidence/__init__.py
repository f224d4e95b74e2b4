"""Evidence: what makes a log of a run provable."""
