"""Pages: one HTML file that shows models to be turned, cut open and measured, and reads as a report."""
