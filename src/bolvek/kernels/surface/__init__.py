"""Faces, edges and vertices of a mesh."""
