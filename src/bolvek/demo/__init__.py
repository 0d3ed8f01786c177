"""The lantern workshop: procedural models and the example that is told with them."""
