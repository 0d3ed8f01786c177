"""The one table of verbs: what each does, the words by which somebody would look for it, the kernels it needs."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Verb:
    """One verb: its line in the help, other words for what it does, groups of kernels (see `kernels.warm`)."""

    text: str
    also: str = ""
    kernels: tuple[str, ...] = ()


HELP = ["-h", "--help"]
"""What asks for help, of every verb."""

VERBS = {
    "survey": Verb(
        "Look at models: what they are, what is wrong, where.",
        "inspect, check, analyse, report errors, volume, weight",
        ("mesh", "shells", "faults", "voids"),
    ),
    "walls": Verb(
        "Measure wall thickness, thin spots and gaps.",
        "thin walls, minimum thickness, clearance",
        ("mesh", "shells", "faults", "walls"),
    ),
    "overhangs": Verb(
        "Find overhangs, islands and supports; compare build directions.",
        "supports, orientation, bridges",
        ("mesh", "shells", "overhangs", "faults"),
    ),
    "supports": Verb(
        "Make the fewest supports that hold every layer, and prove that they do.",
        "support structures, columns, trees, pillars, rafts, scaffolding, tips, contact points",
        ("mesh", "shells", "faults", "held", "columns", "supports"),
    ),
    "layers": Verb(
        "What each layer holds: area, islands, membranes, liquid that stays.",
        "slices, slicing, resin volume, print time, weight, price, suction cups, trapped resin",
        ("mesh", "shells", "faults", "overhangs", "columns", "layers"),
    ),
    "mend": Verb(
        "Mend models: weld, separate, orient, close; leave what is fine as it is.",
        "repair, fix, heal, close holes, fill, stitch, watertight, manifold, flip normals, duplicates, symmetry",
        ("mesh", "shells", "faults", "mend", "walls", "places"),
    ),
    "solid": Verb(
        "The shortest way from any file to one sound solid, held against the file.",
        "repair, close everything, one body, upload ready, any file",
        ("mesh", "shells", "faults", "mend", "walls", "places", "fuse"),
    ),
    "thicken": Verb(
        "Make a solid of an open skin; grow thin walls; put a relief on a foot.",
        "offset, extrude, shell, scan, terrain, relief, base, minimum wall, one-sided",
        ("mesh", "shells", "faults", "mend", "walls", "hollow", "drain", "places", "fuse"),
    ),
    "recast": Verb(
        "Make one closed solid of any faces, on a lattice.",
        "remesh, voxel, boolean union, close gaps",
        ("mesh", "shells", "faults", "walls", "hollow", "rooms", "places"),
    ),
    "fuse": Verb(
        "Make one body of overlapping parts; bring near ones together.",
        "union, merge, combine, boolean, join parts",
        ("mesh", "shells", "faults", "fuse", "mend", "hollow", "places"),
    ),
    "carve": Verb(
        "Take one model out of another.",
        "subtract, difference, boolean, engrave, cut out",
        ("mesh", "shells", "faults", "fuse", "mend", "hollow", "places"),
    ),
    "cut": Verb(
        "Cut into pieces with pegs, or so that they fit a printer.",
        "split by plane, section, slice in half, too big for the bed, dowels, alignment pins, connectors, keys",
        ("mesh", "shells", "layers", "fuse", "mend", "hollow", "places"),
    ),
    "split": Verb(
        "Each part into a file of its own.",
        "separate, shells, objects, explode, strays, largest part",
        ("mesh", "shells", "faults"),
    ),
    "join": Verb(
        "Several models into one file, with names.",
        "merge files, combine, assembly, collect, 3MF",
        ("mesh",),
    ),
    "plinth": Verb(
        "Put a base under a bust or a scan.",
        "pedestal, stand, socle, foot, display base",
        ("mesh", "shells", "layers", "fuse", "mend", "hollow", "places"),
    ),
    "smooth": Verb(
        "Calm a noisy surface without shrinking it.",
        "denoise, fair, relax, scan noise, polish, filter",
        ("mesh", "fairing", "places"),
    ),
    "slim": Verb(
        "Fewer triangles, with the deviation measured.",
        "decimate, simplify, reduce, file size, megabytes",
        ("mesh", "slim"),
    ),
    "compare": Verb(
        "Old against new: how far the surfaces are apart, which faces are the same.",
        "difference, deviation, distance, changed",
        ("mesh", "shells", "faults", "walls", "places"),
    ),
    "prep": Verb(
        "The whole way: scale, hollow, drain, prove.",
        "prepare, make printable",
        ("mesh", "shells", "walls", "hollow", "drain", "rooms", "columns"),
    ),
    "scale": Verb("Make a model larger or smaller.", "resize, enlarge, shrink, units, inches, shrinkage", ("mesh",)),
    "pose": Verb(
        "Turn, tilt, lay on a face, mirror, centre, drop to the bed.",
        "rotate, orient, flip, reflect, move to the origin",
        ("mesh",),
    ),
    "hollow": Verb(
        "Hollow a solid model, leaving a wall.",
        "shell, offset inward, save resin",
        ("mesh", "shells", "walls", "hollow"),
    ),
    "drain": Verb("Cut drain and vent holes.", "escape holes, drill, punch", ("mesh", "drain")),
    "proof": Verb(
        "Prove a model fit to print, or say what is not.",
        "validate, verify, watertight, manifold, trapped resin, cavities",
        ("mesh", "shells", "walls", "rooms", "columns"),
    ),
    "picture": Verb(
        "Draw a model, whole or cut open.", "render, preview, section, thumbnail", ("mesh", "shells", "rooms")
    ),
    "page": Verb(
        "A page to turn, cut open and measure in a browser.",
        "HTML, 3D view, viewer, report, share with a client, web",
        ("mesh", "shells", "faults", "voids", "walls", "overhangs", "columns", "layers", "rooms", "picture"),
    ),
    "run": Verb(
        "A whole job from one sheet: models, steps, outputs; goes on where it stopped.",
        "batch, recipe, pipeline, macro, workflow, many models, weekly",
        ("mesh", "shells", "faults"),
    ),
    "profiles": Verb("List and explain printers and materials.", "machines, resins, filaments, limits"),
    "schema": Verb("Print the JSON schema of the record.", "API, fields, keys"),
    # what the story needs is compiled chapter by chapter, while others are at work
    "demo": Verb("Write the lantern workshop's models and run the example.", "examples, sample files, try it"),
}
