"""What must hold before a run may start. One rule a function; ``assess`` asks them all."""
