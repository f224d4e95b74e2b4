"""Names at the servers of their zones: read, changed and looked for (RFC 1035, RFC 2136, RFC 8945)."""
