"""Site agents that come with Maestoso: each is a platform of the agent kit."""
