"""Kernels that walk the bounding-volume tree."""
