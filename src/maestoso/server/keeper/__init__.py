"""The keeper: a process that keeps sites and records together, beside the engine that conducts runs."""
