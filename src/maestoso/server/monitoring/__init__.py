"""What monitors ask: is it alive, is it ready, and the figures that alerts are made of."""
