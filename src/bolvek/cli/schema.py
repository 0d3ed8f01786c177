"""`bolvek schema`."""

import click


@click.command("schema")
def command() -> None:
    """Print the JSON schema of the record that --json writes.

    \b
    Examples:
      bolvek schema
      bolvek schema > record.schema.json
    """
    import json

    from bolvek.report.record import Record

    click.echo(json.dumps(Record.model_json_schema(mode="serialization"), indent=2))
