"""What the launcher calls: set-up, start, stop and test. No rules of the product."""
