"""What hangs together in a kernel: each number points at one it was joined to, a root at itself."""

from bolvek.kernels import helper


@helper
def root_of(parent, i):
    """The root of i; the way there is halved for whoever asks next."""
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@helper
def join(parent, i, j):
    """Join what i and j belong to; the lower of both roots is the root of all."""
    i, j = root_of(parent, i), root_of(parent, j)
    if i < j:
        parent[j] = i
        return i
    parent[i] = j
    return j
