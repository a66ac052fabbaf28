"""Pictures written to files."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtGui import QImage

from vastgrid.base.errors import WriteError
from vastgrid.base.files import replacing


def save_image(image: QImage, path: Path) -> None:
    """Write a picture as PNG under a temporary name, and rename it.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    with replacing(path) as temporary:
        if not image.save(str(temporary), "PNG"):
            raise WriteError(f"{path} cannot be written")
