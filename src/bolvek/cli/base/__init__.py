"""What every verb stands on: option types, shared options, the console, targets, kernels, and the one way to run."""
