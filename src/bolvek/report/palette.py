"""Colours of pictures: linear RGB triples in 0..1 unless said otherwise."""

OUTSIDE = (0.78, 0.62, 0.44)
INSIDE = (0.30, 0.50, 0.62)
CUT = (0.86, 0.33, 0.20)
CUT_DARK = (0.74, 0.26, 0.15)
PAPER = "#f6f3ee"
INK = "#2a2622"
QUIET = "#7d746a"
FIT = "#2f7d4f"
UNFIT = "#b3261e"
