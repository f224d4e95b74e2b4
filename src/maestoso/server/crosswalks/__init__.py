"""Tables of equivalents between sites."""
