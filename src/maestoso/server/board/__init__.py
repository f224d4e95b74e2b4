"""What is so everywhere: the readiness board, and the site line on every page."""
