"""The frozen triangle mesh and what follows from it: topology, measures, its tree."""

from bolvek.mesh.derived import once_a_mesh
from bolvek.mesh.mesh import Mesh
from bolvek.mesh.topology import Topology

__all__ = ["Mesh", "Topology", "once_a_mesh"]
