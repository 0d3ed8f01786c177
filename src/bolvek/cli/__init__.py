"""The command line: Click and Rich, one file a verb."""
