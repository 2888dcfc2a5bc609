"""The shapes of a proof as solids, for those who prepare jobs elsewhere: STL (binary) and 3MF. Same proof, same bytes."""

import itertools
import zipfile
from io import BytesIO

import numpy as np

from ivory_table.core.plate import Plate
from ivory_table.core.proof import ProofPlan
from ivory_table.core.value import Array
from ivory_table.program.check import Points
from ivory_table.program.proof import stretches

_TRIANGLE = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("spare", "<u2")])
#: Archives know no earlier day; a fixed one keeps their bytes the same.
_DAY = (1980, 1, 1, 0, 0, 0)


def triangles(plate: Plate, proof: ProofPlan) -> Array:
    """(n, 3, 3) corners in mm of closed solids, one layer high, normals outwards.

    A patch is a block; a line of a loop or a strip a band as wide as it is laid. Raises ValueError for a proof
    that is no shape (`ProofPlan.is_shape`).
    """
    if not proof.is_shape:
        raise ValueError(
            "Several heights, temperatures or filaments are the machine's doing, not a shape's: take the program for that."
        )
    blocks: list[Array] = []
    h, half = proof.layer_mm, proof.patch_mm / 2
    if proof.kind == "patches":
        for zone in proof.zones:
            x, y = zone.x_mm, zone.y_mm
            blocks.append(
                _prism(
                    np.array([[x - half, y - half], [x + half, y - half], [x + half, y + half], [x - half, y + half]]),
                    h,
                )
            )
    else:
        for stretch in stretches(plate, proof):
            for line in stretch.lines:
                blocks += [_prism(quad, h) for quad in _band(line, proof.line_mm)]
    return np.concatenate(blocks)


def _band(line: Points, width: float) -> list[Array]:
    """A line as four-cornered pieces, each (4, 2), counter-clockwise."""
    at = np.array(line)
    out = []
    for a, b in itertools.pairwise(at):
        along = (b - a) / max(float(np.linalg.norm(b - a)), 1e-9)
        side = np.array([-along[1], along[0]]) * width / 2
        out.append(np.array([a - side, b - side, b + side, a + side]))
    return out


def _prism(corners: Array, height: float) -> Array:
    """(12, 3, 3) triangles of a block over four corners (4, 2), counter-clockwise seen from above."""
    low = np.column_stack([corners, np.zeros(4)])
    high = np.column_stack([corners, np.full(4, height)])
    faces = [
        (low[0], low[2], low[1]),
        (low[0], low[3], low[2]),
        (high[0], high[1], high[2]),
        (high[0], high[2], high[3]),
    ]
    for k in range(4):
        j = (k + 1) % 4
        faces += [(low[k], low[j], high[j]), (low[k], high[j], high[k])]
    return np.array(faces)


def stl(plate: Plate, proof: ProofPlan) -> bytes:
    """The solids as binary STL, in mm."""
    found = triangles(plate, proof)
    body = np.zeros(len(found), dtype=_TRIANGLE)
    across = np.cross(found[:, 1] - found[:, 0], found[:, 2] - found[:, 0])
    body["normal"] = across / np.linalg.norm(across, axis=1, keepdims=True)
    body["corners"] = found
    return b"first layer proof, mm".ljust(80) + np.uint32(len(found)).tobytes() + body.tobytes()


def threemf(plate: Plate, proof: ProofPlan) -> bytes:
    """The solids as a 3MF package, in mm."""
    found = triangles(plate, proof)
    corners, at = np.unique(np.round(found.reshape(-1, 3), 4), axis=0, return_inverse=True)
    points = "".join(f'<vertex x="{x:g}" y="{y:g}" z="{z:g}"/>' for x, y, z in corners)
    faces = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in at.reshape(-1, 3))
    model = (
        '<?xml version="1.0" encoding="UTF-8"?>'
        '<model unit="millimeter" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">'
        f'<resources><object id="1" type="model"><mesh><vertices>{points}</vertices><triangles>{faces}</triangles></mesh>'
        '</object></resources><build><item objectid="1"/></build></model>'
    )
    kinds = (
        '<?xml version="1.0" encoding="UTF-8"?>'
        '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        '<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>'
    )
    links = (
        '<?xml version="1.0" encoding="UTF-8"?>'
        '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
        '<Relationship Target="/3D/3dmodel.model" Id="rel0" '
        'Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>'
    )
    out = BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as package:
        for name, text in (("[Content_Types].xml", kinds), ("_rels/.rels", links), ("3D/3dmodel.model", model)):
            package.writestr(zipfile.ZipInfo(name, _DAY), text, zipfile.ZIP_DEFLATED)
    return out.getvalue()
