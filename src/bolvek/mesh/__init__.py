"""The frozen triangle mesh and what follows from it: topology, measures, its tree."""

from bolvek.mesh.mesh import Mesh
from bolvek.mesh.topology import Topology

__all__ = ["Mesh", "Topology"]
