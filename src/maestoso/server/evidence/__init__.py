"""Evidence: seals, reports, what people add to them, comparison and proof."""
