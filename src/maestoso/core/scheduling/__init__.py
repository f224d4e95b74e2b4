"""When each step would start and finish under the site's limits."""
