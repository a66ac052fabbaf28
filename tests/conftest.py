from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent))
if not os.environ.get("DISPLAY"):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


@pytest.fixture(scope="session")
def demo(tmp_path_factory):
    """The demo's files and job, made once."""
    from vastgrid.base.progress import Silent
    from vastgrid.demo import tollgarth

    folder = tmp_path_factory.mktemp("demo")
    tollgarth.prepare(folder, Silent())
    return folder


@pytest.fixture
def run_cli(capsys):
    """Run the command line in this process; return exit code, standard output and standard error."""
    from vastgrid.cli.main import run

    def call(*arguments):
        code = run([str(word) for word in arguments])
        said = capsys.readouterr()
        return code, said.out, said.err

    return call
