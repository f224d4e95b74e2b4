"""Settings, addresses and the wiring of ports to adapters."""
