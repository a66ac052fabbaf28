"""Triangles in the order of their errors: a binary heap whose entries move when an error changes.

`heap` holds triangles, `rank` their errors in the heap's order (beside each other, so that sorting stays in the cache),
`place` where each triangle stands, -1 for those that are not in it.
"""

import numba


@numba.njit(cache=True, nogil=True)
def up(heap, place, rank, i):
    """Move an entry towards the first, as far as it is larger."""
    t, key = heap[i], rank[i]
    while i > 0:
        above = (i - 1) >> 1
        if key <= rank[above]:
            break
        heap[i], rank[i] = heap[above], rank[above]
        place[heap[i]] = i
        i = above
    heap[i], rank[i], place[t] = t, key, i


@numba.njit(cache=True, nogil=True)
def down(heap, place, rank, n, i):
    """Move an entry away from the first, as far as it is smaller; there are n."""
    t, key = heap[i], rank[i]
    while True:
        child = 2 * i + 1
        if child >= n:
            break
        if child + 1 < n and rank[child + 1] > rank[child]:
            child += 1
        if rank[child] <= key:
            break
        heap[i], rank[i] = heap[child], rank[child]
        place[heap[i]] = i
        i = child
    heap[i], rank[i], place[t] = t, key, i


@numba.njit(cache=True, nogil=True)
def put(heap, place, rank, key, heaped, t, found, enough):
    """Put a triangle where its error belongs; one whose error is small enough is not in the heap."""
    error = found if found > enough else 0.0
    key[t] = error
    i = place[t]
    if i < 0:
        if error <= 0.0:
            return
        i = heaped[0]
        heaped[0] += 1
        heap[i], rank[i], place[t] = t, error, i
        up(heap, place, rank, i)
        return
    if error <= 0.0:
        heaped[0] -= 1
        last = heaped[0]
        place[t] = -1
        if i != last:
            moved = heap[last]
            heap[i], rank[i], place[moved] = moved, rank[last], i
            up(heap, place, rank, i)
            down(heap, place, rank, last, place[moved])
        return
    rank[i] = error
    up(heap, place, rank, i)
    down(heap, place, rank, heaped[0], place[t])
