"""Kernels on lattices and grids."""
