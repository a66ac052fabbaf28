"""Figures of a dataset, as jobs, reports and the command line give them."""

from __future__ import annotations

from typing import Any

from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import crs_name, epsg_code
from vastgrid.data.kinds import of_kind
from vastgrid.data.table import Table
from vastgrid.measures.area_sizes import sizes_of

# Longer tables are told by their beginning; the whole of one is in its card.
MOST_ENTRIES = 200


def described(dataset: Dataset) -> dict[str, Any]:
    """Return a dataset's figures as plain values, None where unknown."""
    frame = dataset.frame
    more: dict[str, Any] = {}
    for table in of_kind([dataset], Table):
        more = {
            "columns": list(table.columns),
            "units": list(table.units),
            "entries": table.texts()[:MOST_ENTRIES],
        }
    for areas in of_kind([dataset], Areas):
        sizes = sizes_of(areas)
        more = {
            "area": float(sizes.areas.sum()),
            "perimeter": float(sizes.perimeters.sum()),
            "area_unit": f"{sizes.unit.value}²" if sizes.unit else None,
        }
    code = epsg_code(frame.crs) if frame.crs else None
    return {
        "name": dataset.name,
        "kind": dataset.kind,
        "count": dataset.count(),
        "extent": dataset.extent().to_json(),
        "crs": f"EPSG:{code}" if code else crs_name(frame.crs),
        "horizontal_unit": frame.horizontal.value if frame.horizontal else None,
        "vertical_unit": frame.vertical.value if frame.vertical else None,
        **more,
    }
