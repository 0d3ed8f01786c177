"""The layers of a model, as a slicer will see them."""

from bolvek.analyses.layering import first_layer
from bolvek.analyses.layers.layers import LayerView, read_layers
from bolvek.analyses.layers.record import LayerRecord, Membrane, Slit
from bolvek.analyses.layers.sections import Outline, Stack
from bolvek.settings.measures import LayerSettings, Making

__all__ = [
    "LayerRecord",
    "LayerSettings",
    "LayerView",
    "Making",
    "Outline",
    "Membrane",
    "Slit",
    "Stack",
    "first_layer",
    "read_layers",
]
