"""Spatial structures over flat arrays: thin, validating wrappers around the kernels."""
