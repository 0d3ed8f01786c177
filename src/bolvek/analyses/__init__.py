"""Analyses: questions to a mesh. They change nothing and know nothing of files or printing."""
