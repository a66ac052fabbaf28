"""What a command does not need it does not load: a start is most of what a short command takes."""

import subprocess
import sys

import pytest

LOADED = "import sys; from vastgrid.cli.main import run; code = run(sys.argv[1:]); print('|'.join(sorted(sys.modules))); sys.exit(code)"


def loaded(*arguments):
    done = subprocess.run(
        [sys.executable, "-c", LOADED, *map(str, arguments)], capture_output=True, text=True, check=True
    )
    return set(done.stdout.splitlines()[-1].split("|"))


@pytest.fixture
def text(tmp_path):
    path = tmp_path / "three.csv"
    path.write_text("P,E,N,Z\n1,431000.5,887000.25,101.5\n2,431010.5,887010.25,102.5\n3,431020.5,887000.25,103.5\n")
    return path


def test_info_of_a_text_loads_neither_compiler_nor_libraries_of_others(text):
    modules = loaded("info", text)
    heavy = (
        "scipy.linalg",
        "shapely",
        "rasterio",
        "pyogrio",
        "pyproj",
        "laspy",
        "ezdxf",
        "dask",
        "distributed",
        "PyQt6",
        "yaml",
        "ssl",
    )
    assert not {name for name in modules for each in heavy if name == each or name.startswith(each + ".")}
    # Code that is compiled already is used without the compiler's own libraries of types.
    assert "numba" in modules and "numba.cpython.cmathimpl" not in modules
    assert not any(name.startswith("vastgrid.conversions.") for name in modules)


def test_a_conversion_loads_its_own_module_and_format_only(text, tmp_path):
    modules = loaded("convert", text, tmp_path / "a.csv")
    assert not {name for name in ("scipy.linalg", "dask", "PyQt6", "ssl", "rasterio") if name in modules}


def test_code_that_is_not_kept_is_compiled_and_kept(text, tmp_path, monkeypatch):
    """The compiler is made ready when something has to be compiled, and only then."""
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path / "kept"))
    first = loaded("info", text)
    assert "numba.cpython.cmathimpl" in first and list((tmp_path / "kept").rglob("*.nbc"))
    assert "numba.cpython.cmathimpl" not in loaded("info", text)
