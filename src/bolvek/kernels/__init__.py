"""Numba kernels: loops over flat arrays that know nothing of files, options or words.

A room a topic: `exact`, `surface`, `grid`, `files`, `raster`, and `tree` on top of them. `@kernel("...")` makes an
entry, called from outside with exactly the types it names; `@helper` a piece that only kernels call. With
BOLVEK_PLAIN=1 in the environment nothing is compiled: every kernel is then the plain function it was written as, to
be stepped through.
"""

import functools
import os
import sys
import threading
from collections.abc import Callable
from typing import Any

import numpy as np

from bolvek.kernels.cache import module_folder

PLAIN = os.environ.get("BOLVEK_PLAIN", "") not in ("", "0")
"""Whether kernels stay plain functions."""

KERNELS: list["Kernel"] = []
"""Every entry of the rooms imported so far."""

HELPERS: list["Helper"] = []
"""Every helper."""

_BUNDLES: dict[str, tuple[type, str]] = {}
_COMPILING = threading.Lock()


class Kernel:
    """A loop with one signature, compiled when it is first called or taken from the cache.

    The signature names the type of each argument: i8, f8, b1, ... a number; f8[:,:] a C-contiguous array that is only
    read (it may be read-only); f8[:,:]! one that is written to; or the name of a `bundle`. No call ever compiles a
    second variant: what is only read is copied where its layout is another, all else raises TypeError.
    """

    def __init__(self, function: Callable[..., Any], signature: str) -> None:
        self.function, self.signature = function, signature
        self.module = function.__module__.removeprefix("bolvek.kernels.")
        self.name = f"{self.module}.{function.__name__}"
        self.__doc__ = function.__doc__
        self._compiled: Any = function if PLAIN else None

    def __call__(self, *arguments: Any) -> Any:
        if self._compiled is None:
            self.prepare()
        try:
            return self._compiled(*arguments)
        except TypeError:
            if all(not _is_strided(a) for a in arguments):
                raise
        words = self.signature.split()
        fixed = (a if word.endswith("!") else _in_order(a) for word, a in zip(words, arguments, strict=True))
        return self._compiled(*fixed)

    def prepare(self) -> None:
        """Compile, or load what the cache has."""
        with _COMPILING:
            if self._compiled is None:
                dispatcher = _jit(self.function)
                types = tuple(_numba_type(word) for word in self.signature.split())
                if not _from_cache(dispatcher, types):
                    _teach_numba()
                    _skip_blas()
                    dispatcher.compile(types)
                dispatcher.disable_compile()
                self._compiled = dispatcher


def _from_cache(dispatcher: Any, types: tuple[Any, ...]) -> bool:
    """Take compiled code from the cache, where it is there, without setting up Numba's compiler: that takes a third of
    a second, and code that is compiled needs its memory manager only. It does what `Dispatcher.compile` does inside;
    with a Numba in which that is different, the ordinary way serves."""
    try:
        from numba.core.runtime import rtsys

        rtsys.initialize(dispatcher.targetctx)
        found = dispatcher._cache._load_overload(types, dispatcher.targetctx)
        if found is not None:
            dispatcher.add_overload(found)
    except (ImportError, AttributeError, TypeError, OSError):
        return False
    return found is not None


def _is_strided(argument: Any) -> bool:
    return isinstance(argument, np.ndarray) and not argument.flags.c_contiguous


def _in_order(argument: Any) -> Any:
    return np.ascontiguousarray(argument) if _is_strided(argument) else argument


def kernel(signature: str) -> Callable[[Callable[..., Any]], Kernel]:
    """An entry of the given signature (see `Kernel`)."""

    def wrap(function: Callable[..., Any]) -> Kernel:
        made = Kernel(function, signature)
        KERNELS.append(made)
        return made

    return wrap


class Helper:
    """A piece that only kernels call. What Numba needs of it is made when a kernel that calls it is compiled: one that
    comes from the cache needs nothing."""

    def __init__(self, function: Callable[..., Any]) -> None:
        self.function = function
        self.__doc__ = function.__doc__
        HELPERS.append(self)

    @functools.cached_property
    def dispatcher(self) -> Any:
        """What Numba compiles: without what Python needs to call it."""
        _teach_numba()
        return _jit(self.function, no_cpython_wrapper=True)


def helper(function: Callable[..., Any]) -> Any:
    """A piece that only kernels call (see `Helper`)."""
    return function if PLAIN else Helper(function)


@functools.cache
def _teach_numba() -> None:
    """Let Numba take a `Helper` for what it stands for."""
    from numba.core.typing.typeof import typeof
    from numba.extending import typeof_impl

    typeof_impl.register(Helper)(lambda value, context: typeof(value.dispatcher, context.purpose))


def _skip_blas() -> None:
    """Keep Numba from importing scipy.linalg when it compiles (a quarter of a second).

    It does so to find a BLAS for matrix products inside kernels; there are none in ours. What it would have imported
    is imported as ever by whoever asks for it afterwards.
    """
    if "numba.np.arraymath" in sys.modules or "scipy.linalg" in sys.modules:
        return
    sys.modules["scipy.linalg"] = None  # type: ignore[assignment]
    try:
        import numba.np.arraymath  # noqa: F401
    finally:
        del sys.modules["scipy.linalg"]


def bundle(name: str, kind: type, fields: str) -> None:
    """Let signatures name a NamedTuple of arrays, whose fields have these types; its arrays must be read-only."""
    _BUNDLES[name] = kind, fields


def _jit(function: Callable[..., Any], **more: bool) -> Any:
    """A Numba dispatcher that keeps its code in our folder; the host's own setting is left as it was."""
    import numba

    folder = module_folder(function.__module__.removeprefix("bolvek.kernels."))
    before, numba.config.CACHE_DIR = numba.config.CACHE_DIR, str(folder)
    try:
        return numba.njit(cache=True, nogil=True, error_model="numpy", no_cfunc_wrapper=True, no_rewrites=True, **more)(
            function
        )
    finally:
        numba.config.CACHE_DIR = before


def _numba_type(word: str) -> Any:
    """What Numba calls the type that a word of a signature names."""
    from numba import types

    if word in _BUNDLES:
        kind, fields = _BUNDLES[word]
        return types.NamedTuple([_numba_type(field) for field in fields.split()], kind)
    element, _, rest = word.partition("[")
    number = getattr(types, element)
    if not rest:
        return number
    return types.Array(number, rest.count(":"), "C", readonly=not rest.endswith("!"))
