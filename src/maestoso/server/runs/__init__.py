"""Runs, their log and their controls."""
