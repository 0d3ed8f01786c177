"""`bolvek schema`."""

import click


@click.command("schema")
@click.option("--settings", is_flag=True, help="Of the settings instead, and which option of which verb gives each.")
def command(settings: bool) -> None:
    """Print the JSON schema of the record that --json writes, or of the settings.

    \b
    Examples:
      bolvek schema > record.schema.json
      bolvek schema --settings
    """
    import json

    if settings:
        from bolvek.cli.base.bind import bound_options
        from bolvek.settings.schema import settings_schema

        click.echo(json.dumps({**settings_schema(), "verbs": bound_options()}, indent=2))
        return
    from bolvek.report.record import Record

    click.echo(json.dumps(Record.model_json_schema(mode="serialization"), indent=2))
