"""The `bolvek` command. Verbs are imported when they are called, so that help stays quick."""

import importlib
import os
import re
import sys

import click

from bolvek import __version__
from bolvek.cli.verbs import HELP, VERBS


class Verbs(click.Group):
    """A group that imports a verb's file only when it is needed."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(VERBS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in VERBS:
            return None
        command = importlib.import_module(f"bolvek.cli.{cmd_name}").command
        assert isinstance(command, click.Command)
        command.short_help = VERBS[cmd_name].text
        command.epilog = f"Also looked for as: {VERBS[cmd_name].also}."
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Verbs"):
            formatter.write_dl([(name, verb.text) for name, verb in VERBS.items()])

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in VERBS and not args[0].startswith("-"):
            import difflib

            near = difflib.get_close_matches(args[0], VERBS, 1)
            near = near or [
                name for name, verb in VERBS.items() if args[0].lower() in re.split(r"\W+", verb.also.lower())
            ]
            hint = f" Did you mean {' or '.join(repr(name) for name in near)}?" if near else ""
            ctx.fail(f"there is no verb '{args[0]}'.{hint} 'bolvek -h' lists them.")
        return super().resolve_command(ctx, args)


@click.command(cls=Verbs, context_settings={"help_option_names": HELP, "max_content_width": 100})
@click.version_option(__version__, prog_name="bolvek")
def cli() -> None:
    """Bolvek takes a triangle model to a print that is proven fit.

    Lengths take a unit (2mm, 0.08in, 12cm); a bare number is millimetres. Inputs are never changed.

    Exit codes: 0 done and sound; 1 done, but the model falls short; 2 the command line is wrong;
    3 a file cannot be read or written; 4 the work could not be done, nothing was written; 70 a bug; 130 stopped.
    """


def main() -> None:
    """Run the command line and leave with its exit code: one sentence for all that goes wrong."""
    import gc

    from bolvek.cli.base.stopping import listen

    listen()
    gc.set_threshold(200_000)  # imports make many objects and no garbage
    try:
        code = run(sys.argv[1:])
        sys.stdout.flush()
    except BrokenPipeError:
        # whoever read has gone: nothing is left to say, and nothing to flush to
        devnull = os.open(os.devnull, os.O_WRONLY)
        os.dup2(devnull, sys.stdout.fileno())
        code = 0
    sys.exit(code)


def run(arguments: list[str]) -> int:
    """The exit code of a command line (without the program's name); what could not be done is said on stderr."""
    from bolvek.errors import EXIT_BUG, EXIT_STOPPED, EXIT_WORK, BolvekError
    from bolvek.settings import SettingError

    try:
        if "_BOLVEK_COMPLETE" in os.environ:
            cli.main(prog_name="bolvek")
        # not through main(): it would take a closed pipe for a failure
        with cli.make_context("bolvek", list(arguments), obj=tuple(arguments)) as context:
            cli.invoke(context)
    except click.exceptions.Exit as done:
        return done.exit_code
    except click.ClickException as error:
        error.show()
        return error.exit_code
    except SettingError as error:
        from bolvek.cli.base.bind import named

        command = cli.get_command(context, context.invoked_subcommand or "")
        click.echo(f"bolvek: {named(error, command) if command is not None else error}", err=True)
        return error.exit_code
    except BolvekError as error:
        from bolvek.cli.base.remedies import commands, first_model, lines

        click.echo(f"bolvek: {error}", err=True)
        for line in lines(commands(error.remedies, arguments, first_model(arguments))):
            click.echo(f"  {line}", err=True)
        return error.exit_code
    except (KeyboardInterrupt, click.Abort):
        click.echo("bolvek: stopped; nothing was written", err=True)
        return EXIT_STOPPED
    except BrokenPipeError:
        raise
    except MemoryError:
        click.echo("bolvek: there is not enough memory for this on this machine; nothing was written", err=True)
        return EXIT_WORK
    except SystemExit as done:
        return int(done.code or 0)
    except Exception as error:
        from bolvek.cli.base.bugs import bug_text

        click.echo(f"bolvek: {bug_text(error)}", err=True)
        return EXIT_BUG
    return 0
