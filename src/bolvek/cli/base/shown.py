"""What verbs add to the scene of a page, imported only where a page is asked for."""

import importlib
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from bolvek.report.page.scene import Scene


def adds(what: str, *known: Any) -> "Callable[[Scene], Scene]":
    """What one of the functions of `report.page.shown` ("walls": `walls_scene`) makes of a scene with what is known."""

    def add(scene: "Scene") -> "Scene":
        made: Scene = getattr(importlib.import_module("bolvek.report.page.shown"), f"{what}_scene")(scene, *known)
        return made

    return add
