"""Repeatable benchmarks; `python -m bench.run` writes the table of docs/benchmarks.md."""
