"""The practice lab: breaking practice sites on purpose, and putting all right again."""
