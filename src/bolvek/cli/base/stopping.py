"""Ctrl-C that is not lost. Python raises it wherever the program happens to be. Where an object is being cleared away
it drops what is raised, so it is remembered too and raised again before the next step. Where the compiler of kernels
has called back, raising would end the whole process, so it is put off for a moment."""

import signal
import threading
from types import FrameType

_MOMENT_S = 0.05
_asked = False


def listen() -> None:
    """From now on Ctrl-C is remembered; where it was to be ignored, it still is."""
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, _stop)


def stop_if_asked() -> None:
    """Raises KeyboardInterrupt where Ctrl-C came before."""
    if _asked:
        raise KeyboardInterrupt


def _stop(_number: int, frame: FrameType | None) -> None:
    global _asked
    _asked = True
    while frame is not None:
        if frame.f_globals.get("__name__", "").startswith("llvmlite."):
            again = threading.Timer(_MOMENT_S, signal.raise_signal, [signal.SIGINT])
            again.daemon = True
            again.start()
            return
        frame = frame.f_back
    raise KeyboardInterrupt
