"""Compiling the kernels a verb needs, once on a machine."""

import sys
from collections.abc import Iterable
from pathlib import Path

import click


def needed_modules(
    verb: str, files: Iterable[Path], more: Iterable[str] = (), targets: Iterable[Path] = ()
) -> list[str]:
    """The modules of kernels that a verb needs for these files and targets, and more groups of them."""
    from bolvek.cli.verbs import VERBS
    from bolvek.kernels.warm import for_suffix, for_writing, modules_of

    needed = modules_of([*VERBS[verb].kernels, *more])
    needed += [m for suffix in sorted({f.suffix.lower() for f in files}) for m in for_suffix(suffix)]
    return needed + [m for suffix in sorted({t.suffix.lower() for t in targets}) for m in for_writing(suffix)]


def prepare_kernels(verb: str, files: Iterable[Path], more: Iterable[str] = (), targets: Iterable[Path] = ()) -> None:
    """Compile what the verb needs for these files and targets, and more groups of kernels, where it is missing; and
    say so."""
    from bolvek.kernels import PLAIN
    from bolvek.kernels.warm import missing, warm_up

    if PLAIN:
        return
    needed = needed_modules(verb, files, more, targets)
    if not missing(needed):
        return
    if not sys.stderr.isatty():
        click.echo("bolvek: preparing kernels, once on this machine (some seconds) ...", err=True)
        warm_up(needed)
        return

    def bar(done: int, total: int) -> None:
        filled = round(24 * done / total)
        text = f"preparing kernels, once on this machine  [{'=' * filled:<24}] {done} of {total}"
        click.echo(f"\r{text}\x1b[K\r", err=True, nl=False)

    warm_up(needed, bar)
    click.echo("\r\x1b[K", err=True, nl=False)
