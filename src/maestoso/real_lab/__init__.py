"""Two sites of real machines on this one: small guests made from Debian packages, in network namespaces."""
