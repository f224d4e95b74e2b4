"""Settings of the organisation: its name, time zone, its documents, and how long runs are kept."""
