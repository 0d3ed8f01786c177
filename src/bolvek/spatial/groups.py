"""What hangs together, from what hangs directly together."""

import numpy as np
from numpy.typing import NDArray

from bolvek.arrays import Ints32
from bolvek.kernels.surface.topology import join_links


def linked_groups(nodes: int, links: NDArray[np.integer]) -> Ints32:
    """Group (N,) of each node when links (L, 2) hang them together, numbered by first node."""
    first = np.empty(nodes, np.int32)
    join_links(np.asarray(links, np.int64).reshape(-1, 2), first)
    number = np.cumsum(first == np.arange(nodes), dtype=np.int32) - 1
    return np.asarray(number[first], np.int32)
