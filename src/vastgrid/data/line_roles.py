"""The roles that lines play for a surface, by the words of LandXML 1.2 (bndType, brkType); files and conversions share them."""

from __future__ import annotations

# The attribute in which lines say which boundary they are by their source's word; empty for those that are none.
BOUNDARY = "boundary"
OUTER, VOID, ISLAND = "outer", "void", "island"
BOUNDARY_ROLES = (OUTER, VOID, ISLAND)
# The attribute in which lines say which kind of breakline they are; empty for those that are none.
BREAKLINE = "breakline"
STANDARD, WALL, PROXIMITY, GENTLE = "standard", "wall", "proximity", "nondestructive"
BREAKLINE_KINDS = (STANDARD, WALL, PROXIMITY, GENTLE)
USUAL_BREAKLINE = STANDARD
# Lines of one height each, beside the kinds of the standard.
CONTOUR = "contour"
# The attribute in which boundaries say whether triangles are parted at them: “no” where they stay whole.
TRIM = "trim"
UNTRIMMED = "no"
