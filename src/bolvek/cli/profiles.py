"""`bolvek profiles`."""

import click


@click.command("profiles")
@click.argument("name", required=False)
def command(name: str | None) -> None:
    """List the printers and materials that are known, or explain one of them.

    They are generic classes. A TOML file of your own in the folder named at the end of the list overrides
    or adds to them; give only what differs.

    \b
    Examples:
      bolvek profiles
      bolvek profiles small-resin
    """
    from bolvek.errors import UsageError
    from bolvek.profiles import Material, Printer, load_profiles, user_folder
    from bolvek.report.words.profiles import explain, listing

    profiles = load_profiles()
    if name is None:
        for line in listing(profiles):
            click.echo(line)
        files = ", ".join(p.name for p in profiles.files) or "none yet"
        click.echo(f"\nyour own: {user_folder()} ({files})")
        return
    known: dict[str, Printer | Material] = {**profiles.printers, **profiles.materials}
    if name not in known:
        raise UsageError(f"there is no profile '{name}'; known are {', '.join(known)}")
    for line in explain(known[name]):
        click.echo(line)
