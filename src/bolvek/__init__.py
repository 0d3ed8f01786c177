"""Bolvek: from a triangle model to a print that is proven fit."""

__version__ = "0.1.0"
