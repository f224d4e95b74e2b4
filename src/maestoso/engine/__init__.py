"""The engine: performs what the core decides, through ports. No rules, no Django."""
