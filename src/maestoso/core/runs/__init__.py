"""Runs: the log is the truth, ``fold`` reads it, ``decide`` says what comes next."""
