"""Practice sites: a pure model of a site that behaves and misbehaves, and a thin server for it."""
