"""Model files, byte by byte."""
