"""What a plug-in is written against: the words of a declaration, and the data it works on.

A plug-in is a distribution of its own with entry points in the groups ``vastgrid.conversions``, ``vastgrid.formats`` and
``vastgrid.checks``. Each names a declaration by its id; its module says ``INTERFACE = "1.0"``. What stands here is kept within
the first number of `VERSION`: names and their meaning only grow. ``./vastgrid plugin new NAME`` writes a complete one.
"""

from vastgrid.base.errors import CallError, Cancelled, DataError, FormatError, ParamError
from vastgrid.base.findings import Finding, Severity, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, length_in
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import UNKNOWN, Frame
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours, Linework, from_lines
from vastgrid.data.loss import Loss
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin
from vastgrid.declarations.check import Check
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.declarations.fileformat import Carries, Format, NoParams, ReadResult, weighing
from vastgrid.declarations.plugins import INTERFACE as VERSION
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Kind, register

__all__ = [
    "UNKNOWN",
    "VERSION",
    "Areas",
    "CallError",
    "Cancelled",
    "Carries",
    "Check",
    "Contours",
    "Conversion",
    "DataError",
    "Dataset",
    "Finding",
    "Format",
    "FormatError",
    "Frame",
    "Grid",
    "Input",
    "Inputs",
    "Kind",
    "Length",
    "Linework",
    "Loss",
    "Mesh",
    "NoParams",
    "Output",
    "Param",
    "ParamError",
    "PointSet",
    "Progress",
    "Quantity",
    "ReadResult",
    "Result",
    "Severity",
    "Table",
    "Tin",
    "Unit",
    "count",
    "from_lines",
    "left_out",
    "length_in",
    "narrowed",
    "note",
    "register",
    "weighing",
]
