"""Drain and vent holes: planned by rays, placed by gravity or by hand, cut exactly."""

from bolvek.operations.drain.beside import wall_left
from bolvek.operations.drain.bore import Bore, BoreError, Drain, DrainSettings, bore_along, plan_bore
from bolvek.operations.drain.cut import BoreRecord, DrainRecord, cut_and_trace, cut_bores, drain
from bolvek.operations.drain.place import GivenUp, Placed, PlaceSettings, place_drains, place_in_chamber

__all__ = [
    "Bore",
    "BoreError",
    "BoreRecord",
    "Drain",
    "DrainRecord",
    "DrainSettings",
    "GivenUp",
    "PlaceSettings",
    "Placed",
    "bore_along",
    "cut_and_trace",
    "cut_bores",
    "drain",
    "place_drains",
    "place_in_chamber",
    "plan_bore",
    "wall_left",
]
