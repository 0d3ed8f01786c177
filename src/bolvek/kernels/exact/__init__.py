"""Exact answers: orientation, triangles that meet, polygons into triangles."""
