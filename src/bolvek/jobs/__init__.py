"""Whole ways through several operations."""
