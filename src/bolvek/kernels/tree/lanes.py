"""The tree's inner loop, eight children at once, as explicit LLVM vector code.

The compiler does not vectorise these loops by itself (it cannot know that the arrays do not
overlap); written out they are two to three times as fast. Each function does exactly what
`plain_bounds`, `plain_slabs` and `plain_overlaps` do, is tested against them, and gives way to them where nothing is
compiled. All arrays are C-contiguous float32: box (N, 6, 8), disc (N, 8, 8), outputs (8,).
"""

import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

from bolvek.kernels import PLAIN

_LANES = ir.VectorType(ir.FloatType(), 8)


class _Lanes:
    """Small helper to write vector code."""

    def __init__(self, builder):
        self.b = builder

    def load(self, pointer, node, rows, row):
        index = self.b.add(self.b.mul(node, node.type(rows * 8)), node.type(row * 8))
        place = self.b.gep(pointer, [index])
        return self.b.load(self.b.bitcast(place, _LANES.as_pointer()), align=4)

    def store(self, value, pointer):
        self.b.store(value, self.b.bitcast(pointer, _LANES.as_pointer()), align=4)

    def splat(self, scalar):
        one = self.b.insert_element(ir.Constant(_LANES, ir.Undefined), scalar, ir.IntType(32)(0))
        zeros = ir.Constant(ir.VectorType(ir.IntType(32), 8), [0] * 8)
        return self.b.shuffle_vector(one, ir.Constant(_LANES, ir.Undefined), zeros)

    def zero(self):
        return ir.Constant(_LANES, [0.0] * 8)

    def max(self, x, y):
        return self.b.select(self.b.fcmp_ordered(">", x, y), x, y)

    def min(self, x, y):
        return self.b.select(self.b.fcmp_ordered("<", x, y), x, y)

    def sum_squares(self, *parts):
        total = self.b.fmul(parts[0], parts[0])
        for part in parts[1:]:
            total = self.b.fadd(total, self.b.fmul(part, part))
        return total

    def sqrt(self, x):
        kind = ir.FunctionType(_LANES, [_LANES])
        return self.b.call(cgutils.get_or_insert_function(self.b.module, kind, "llvm.sqrt.v8f32"), [x])

    def abs(self, x):
        return self.max(x, self.b.fsub(self.zero(), x))


def _data(context, builder, kind, value):
    return context.make_array(kind)(context, builder, value).data


@intrinsic
def child_bounds(typing, box, disc, node, x, y, z, low):
    """Squared lower bound of the distance from (x, y, z) to each child of a node, into low."""

    def code(context, builder, signature, args):
        lanes = _Lanes(builder)
        boxes, discs = _data(context, builder, box, args[0]), _data(context, builder, disc, args[1])
        px, py, pz = (lanes.splat(a) for a in args[3:6])
        gaps = []
        for axis, p in enumerate((px, py, pz)):
            under = builder.fsub(lanes.load(boxes, args[2], 6, axis), p)
            over = builder.fsub(p, lanes.load(boxes, args[2], 6, axis + 3))
            gaps.append(lanes.max(lanes.max(under, over), lanes.zero()))
        box_bound = lanes.sum_squares(*gaps)
        u = [builder.fsub(p, lanes.load(discs, args[2], 8, axis)) for axis, p in enumerate((px, py, pz))]
        along = builder.fmul(u[0], lanes.load(discs, args[2], 8, 3))
        for axis in (1, 2):
            along = builder.fadd(along, builder.fmul(u[axis], lanes.load(discs, args[2], 8, 3 + axis)))
        along = lanes.abs(along)
        whole = lanes.sum_squares(*u)
        across = lanes.sqrt(lanes.max(builder.fsub(whole, builder.fmul(along, along)), lanes.zero()))
        over = lanes.max(builder.fsub(along, lanes.load(discs, args[2], 8, 7)), lanes.zero())
        beyond = lanes.max(builder.fsub(across, lanes.load(discs, args[2], 8, 6)), lanes.zero())
        disc_bound = lanes.sum_squares(over, beyond)
        lanes.store(lanes.max(box_bound, disc_bound), _data(context, builder, low, args[6]))
        return context.get_dummy_value()

    f32 = types.float32
    return types.void(box, disc, types.int64, f32, f32, f32, low), code


@intrinsic
def child_slabs(typing, box, node, x, y, z, ix, iy, iz, t_in, t_out):
    """Where a ray from (x, y, z) with inverse direction (ix, iy, iz) is inside each child's box."""

    def code(context, builder, signature, args):
        lanes = _Lanes(builder)
        boxes = _data(context, builder, box, args[0])
        first = last = None
        for axis in range(3):
            p, inverse = lanes.splat(args[2 + axis]), lanes.splat(args[5 + axis])
            a = builder.fmul(builder.fsub(lanes.load(boxes, args[1], 6, axis), p), inverse)
            b = builder.fmul(builder.fsub(lanes.load(boxes, args[1], 6, axis + 3), p), inverse)
            low, high = lanes.min(a, b), lanes.max(a, b)
            first = low if first is None else lanes.max(low, first)
            last = high if last is None else lanes.min(high, last)
        lanes.store(first, _data(context, builder, t_in, args[8]))
        lanes.store(last, _data(context, builder, t_out, args[9]))
        return context.get_dummy_value()

    f32 = types.float32
    return types.void(box, types.int64, f32, f32, f32, f32, f32, f32, t_in, t_out), code


@intrinsic
def child_overlaps(typing, box, node, lx, ly, lz, hx, hy, hz):
    """Bit k set where child k's box meets the box lx..hz."""

    def code(context, builder, signature, args):
        lanes = _Lanes(builder)
        boxes = _data(context, builder, box, args[0])
        meets = None
        for axis in range(3):
            below = builder.fcmp_ordered("<=", lanes.load(boxes, args[1], 6, axis), lanes.splat(args[5 + axis]))
            above = builder.fcmp_ordered(">=", lanes.load(boxes, args[1], 6, axis + 3), lanes.splat(args[2 + axis]))
            both = builder.and_(below, above)
            meets = both if meets is None else builder.and_(meets, both)
        return builder.zext(builder.bitcast(meets, ir.IntType(8)), ir.IntType(64))

    f32 = types.float32
    return types.int64(box, types.int64, f32, f32, f32, f32, f32, f32), code


def plain_bounds(box, disc, node, point):
    """`child_bounds` for one node: (8,) float32."""
    p = np.asarray(point, np.float32)[:, None]
    gap = np.maximum(np.maximum(box[node, :3] - p, p - box[node, 3:]), np.float32(0))
    u = p - disc[node, :3]
    along = np.abs((u * disc[node, 3:6]).sum(axis=0))
    across = np.sqrt(np.maximum((u * u).sum(axis=0) - along * along, np.float32(0)))
    over = np.maximum(along - disc[node, 7], np.float32(0))
    beyond = np.maximum(across - disc[node, 6], np.float32(0))
    return np.maximum((gap * gap).sum(axis=0), over * over + beyond * beyond)


def plain_slabs(box, node, origin, inverse):
    """`child_slabs` for one node: entry and exit (8,) float32."""
    o, i = (np.asarray(x, np.float32)[:, None] for x in (origin, inverse))
    a, b = (box[node, :3] - o) * i, (box[node, 3:] - o) * i
    return np.minimum(a, b).max(axis=0), np.maximum(a, b).min(axis=0)


def plain_overlaps(box, node, low, high):
    """`child_overlaps` for one node."""
    low, high = (np.asarray(x, np.float32)[:, None] for x in (low, high))
    meets = ((box[node, :3] <= high) & (box[node, 3:] >= low)).all(axis=0)
    return int((meets * (1 << np.arange(8))).sum())


if PLAIN:

    def child_bounds(box, disc, node, x, y, z, low):  # noqa: F811
        """Plain code in the place of the vector code."""
        low[:] = plain_bounds(box, disc, node, (x, y, z))

    def child_slabs(box, node, x, y, z, ix, iy, iz, t_in, t_out):  # noqa: F811
        """Plain code in the place of the vector code."""
        t_in[:], t_out[:] = plain_slabs(box, node, (x, y, z), (ix, iy, iz))

    def child_overlaps(box, node, lx, ly, lz, hx, hy, hz):  # noqa: F811
        """Plain code in the place of the vector code."""
        return plain_overlaps(box, node, (lx, ly, lz), (hx, hy, hz))
