"""Drills: schedules of tests, black-out times, and the calendar."""
