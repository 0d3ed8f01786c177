"""Classes of findings as people are told and shown them: name and colour."""

from dataclasses import dataclass


@dataclass(frozen=True)
class DrawnClass:
    """name: in a list; colour: in pictures (hex); layer: what is painted later covers
    what is painted before, 0 is not painted."""

    name: str
    colour: str = "#111111"
    layer: int = 0


CLASSES = {
    "open_edges": DrawnClass("open edges", "#d55e00"),
    "nonmanifold_edges": DrawnClass("non-manifold edges", "#6a3d9a"),
    "badly_oriented_edges": DrawnClass("flipped faces", "#0072b2"),
    "flipped_faces": DrawnClass("flipped faces", "#0072b2", layer=5),
    "inside_out": DrawnClass("inside out", "#5b9bd5", layer=1),
    "twin_faces": DrawnClass("twin faces", "#cc79a7", layer=7),
    "self_intersections": DrawnClass("crossing faces", "#e69f00", layer=6),
    "hidden_faces": DrawnClass("hidden faces", "#56b4e9", layer=2),
    "buried": DrawnClass("buried shells", "#56b4e9"),
    "flat_faces": DrawnClass("faces without area", "#111111"),
    "split_vertices": DrawnClass("touching fans", "#111111"),
    "slivers": DrawnClass("slivers", "#111111", layer=8),
    "strays": DrawnClass("strays", "#009e73", layer=3),
    "knife_edges": DrawnClass("knife edges", "#f0e442", layer=4),
    "wall": DrawnClass("thin wall", "#d55e00"),
    "gap": DrawnClass("narrow gap", "#6a3d9a"),
    "bridge": DrawnClass("bridge", "#56b4e9"),
    "cantilever": DrawnClass("overhang", "#d55e00"),
    "free": DrawnClass("bottom of an island", "#cc79a7"),
    "island": DrawnClass("island", "#cc79a7"),
}
"""Told apart by people with any colour vision."""


def class_of(code: str) -> DrawnClass:
    """The class of a code; of one that is not in the table, its own words in grey."""
    return CLASSES.get(code) or DrawnClass(code.replace("_", " "))
