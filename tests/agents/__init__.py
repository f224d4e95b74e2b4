"""Site agents that come with Maestoso, as far as they can be tested without a machine."""
