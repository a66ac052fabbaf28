"""What is noted of the triangles and edges of a TIN while it is edited."""

# What a triangle belongs to: nothing any more, no ground, ground that was taken out, ground.
GONE, OUTSIDE, SPARE, SHOWN = 0, 1, 2, 3
# Bits of edges: on a breakline; swapped by hand, so that it stays.
BREAK, HELD = 1, 2
