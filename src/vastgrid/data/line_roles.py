"""The roles that lines play for a surface, by the words of LandXML 1.2 (bndType, brkType); files and conversions share them."""

from __future__ import annotations

# The attribute in which lines say which boundary they are by their source's word; empty for those that are none.
BOUNDARY = "boundary"
OUTER, VOID, ISLAND = "outer", "void", "island"
BOUNDARY_ROLES = (OUTER, VOID, ISLAND)
BREAKLINE_KINDS = ("standard", "wall", "proximity", "nondestructive")
USUAL_BREAKLINE = BREAKLINE_KINDS[0]
