"""Measurements of speed, memory and size: ./run measure. No test depends on them."""
