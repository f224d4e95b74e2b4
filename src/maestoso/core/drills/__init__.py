"""Drills: when a plan is to be tested, by rules of RFC 5545."""
