"""What the command line says: findings and progress, on the error stream; and its exit codes."""

from __future__ import annotations

import sys

from vastgrid.base import interrupts
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress, Reporting, Silent

DONE, DATA_AT_FAULT, CALL_AT_FAULT = 0, 1, 2


def tell(findings: list[Finding]) -> None:
    """Print findings, each with how grave it is."""
    for finding in findings:
        print(f"{finding.severity.value}: {finding.text}", file=sys.stderr)


_shown = False


def watched() -> Progress:
    """Return a progress that shows on a terminal, and stops at an interrupt."""
    if not sys.stderr.isatty():
        return Silent(interrupts.stop.is_set)
    return Reporting(_show, interrupts.stop.is_set)


def _show(fraction: float, text: str) -> None:
    global _shown
    _shown = True
    print(f"\r\x1b[K{fraction:4.0%} {text}", end="", file=sys.stderr, flush=True)


def end_progress() -> None:
    """Clear the line of progress, if there is one."""
    if _shown:
        print("\r\x1b[K", end="", file=sys.stderr, flush=True)
