"""Drain and vent holes: planned by rays, placed by gravity or by hand, cut exactly."""

from bolvek.operations.drain.auto import MOST_HOLES, place_by_flood
from bolvek.operations.drain.beside import wall_left
from bolvek.operations.drain.bore import Bore, BoreError, bore_along, plan_bore
from bolvek.operations.drain.cut import cut_and_trace, cut_bores, drain
from bolvek.operations.drain.place import GivenUp, Placed, place_drains, place_in_chamber
from bolvek.operations.drain.plugs import PlugRecord, make_plug
from bolvek.operations.drain.record import AutoRecord, BoreRecord, DrainRecord, RoomDrained
from bolvek.settings.shape import AutoSettings, Drain, DrainSettings, PlaceSettings, PlugSettings

__all__ = [
    "MOST_HOLES",
    "AutoRecord",
    "AutoSettings",
    "Bore",
    "BoreError",
    "BoreRecord",
    "Drain",
    "DrainRecord",
    "DrainSettings",
    "GivenUp",
    "PlaceSettings",
    "RoomDrained",
    "Placed",
    "PlugRecord",
    "PlugSettings",
    "bore_along",
    "cut_and_trace",
    "cut_bores",
    "drain",
    "make_plug",
    "place_by_flood",
    "place_drains",
    "place_in_chamber",
    "plan_bore",
    "wall_left",
]
