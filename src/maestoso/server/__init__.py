"""The server: Django, REST and event streams over the core."""
