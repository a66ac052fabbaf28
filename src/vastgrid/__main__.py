"""The one entry: the window for ``demo`` and ``open``, the command line for everything else."""

import os
import sys
import warnings

from vastgrid.base import interrupts, streams


def main() -> int:
    """Run what the command line asks for; return the exit code."""
    interrupts.install()
    streams.install()
    if not os.environ.get("VASTGRID_DEBUG"):
        # Warnings of libraries are for programmers; what a user should know is a finding.
        warnings.simplefilter("ignore")
    arguments = sys.argv[1:]
    if arguments[:1] == ["--version"]:
        # Answered before anything heavy is imported: scripts ask for it often.
        from vastgrid import __version__

        print(f"vastgrid {__version__}")  # noqa: T201
        return 0
    if arguments[:1] in (["demo"], ["open"]) and "--help" not in arguments and "-h" not in arguments:
        return _window(arguments)
    from vastgrid.cli.main import run as run_cli
    from vastgrid.cli.main import told_in_vain

    code = run_cli(arguments)
    try:
        sys.stdout.flush()
    except streams.LostWordsError as error:
        return told_in_vain(error)
    except BrokenPipeError:
        sys.stderr.close()
    return code


def _window(arguments: list[str]) -> int:
    from vastgrid.base.errors import CallError
    from vastgrid.base.extras import need

    try:
        need("PyQt6", "window", "the window")
    except CallError as error:
        print(f"vastgrid: {error}", file=sys.stderr)  # noqa: T201
        return 1
    from vastgrid.qt.window.app import run

    return run(arguments)


if __name__ == "__main__":
    code = main()
    if interrupts.stop.is_set():
        # Threads of libraries must not hold up what was stopped.
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)
    sys.exit(code)
