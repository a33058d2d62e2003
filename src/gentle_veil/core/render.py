"""Lay the veils of a recipe on one frame. A pure function of its arguments."""

from dataclasses import dataclass, field, fields, replace
from functools import cache, partial
from typing import Any

import numpy as np

from gentle_veil.core.composite.behind import laid_behind
from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.keyed import Keyed
from gentle_veil.core.contracts.veil import Patch, Placement, Site, VeilKind
from gentle_veil.core.geometry.keyed_outline import KeyedOutline
from gentle_veil.core.types import MatteF32, RawImage


@dataclass(frozen=True)
class Layer:
    """One veil, ready to be laid: its kind, place, values over frames (k from 0) and what was prepared."""

    name: str
    kind: VeilKind
    placement: Placement
    params: Any
    keyed: dict[str, Keyed] = field(default_factory=dict)
    prepared: dict[str, Any] = field(default_factory=dict)
    opacity: Keyed = field(default_factory=lambda: Keyed(((0, 1.0),)))
    feather: Keyed = field(default_factory=lambda: Keyed(((0, 2.0),)))
    grow: Keyed = field(default_factory=lambda: Keyed(((0, 0.0),)))
    feather_in: Keyed = field(default_factory=lambda: Keyed(((0, 0.0),)))
    first: int | None = None
    last: int | None = None
    come_in: int = 0
    go_out: int = 0
    outline: KeyedOutline | None = None  # on the reference; None: the placement's polygon on every frame

    def placed(self, k: int) -> Placement:
        """The placement with the outline as it is on frame ``k``."""
        if self.outline is None:
            return self.placement
        return replace(self.placement, polygon_ref=self.outline.polygon(k), feathers=self.outline.feathers_on(k))

    def on(self, k: int) -> bool:
        """Whether the veil is laid on frame ``k``: within its range, on a surface that is known there, or where the
        veil found its own place."""
        if (self.first is not None and k < self.first) or (self.last is not None and k > self.last):
            return False
        known = self.placement.track.seen(k) or k in self.prepared.get("alone", ())
        return known and self.opacity.at(k) > 0

    def strength(self, k: int) -> float:
        """The opacity on frame ``k``, with coming in after the range's first frame and going out before its last."""
        here = min(max(self.opacity.at(k), 0.0), 1.0)
        if self.first is not None and self.come_in > 0:
            here *= min((k - self.first + 1) / (self.come_in + 1), 1.0)
        if self.last is not None and self.go_out > 0:
            here *= min((self.last - k + 1) / (self.go_out + 1), 1.0)
        return here

    def params_at(self, k: int) -> Any:
        known = {f.name for f in fields(self.params)}
        return replace(self.params, **{n: v.at(k) for n, v in self.keyed.items() if n in known})


@dataclass(frozen=True)
class LaidPatch:
    """What one veil did to a frame: the patch and the matte it was mixed by, opacity included."""

    name: str
    patch: Patch
    matte: MatteF32


@dataclass(frozen=True)
class Rendered:
    """``img_raw`` (H, W, 3) code values; ``laid`` one entry per veil that touched the frame, in order."""

    img_raw: RawImage
    laid: tuple[LaidPatch, ...]

    def matte(self, name: str) -> MatteF32:
        """A veil's matte over the whole frame, (H, W) in [0, 1]; zero where it did nothing."""
        full = np.zeros(self.img_raw.shape[:2], np.float32)
        for entry in self.laid:
            if entry.name == name:
                x0, y0, x1, y1 = entry.patch.box
                full[y0:y1, x0:x1] = np.maximum(full[y0:y1, x0:x1], entry.matte)
        return full


def render_frame(frames: FrameSource, layers: tuple[Layer, ...], k: int) -> Rendered:
    """Frame ``k`` with all veils laid on it in order.

    Guarantees: pixels outside every matte, or inside what passes in front, are the source's code values; no layers
                give the source itself
    """
    canvas = Canvas(frames[k], frames.encoding)
    laid = []
    for layer in layers:
        row = layer.placement.track.row(k)
        if row is None or not layer.on(k):
            continue
        edge = (layer.feather.at(k), layer.grow.at(k), layer.feather_in.at(k))
        front = cache(partial(layer.placement.front, k))
        site = Site(canvas, layer.placed(k), row, k, *edge, front=front)
        patch = layer.kind.apply(site, layer.params_at(k), layer.prepared)
        if patch is None:
            continue
        patch, left = laid_behind(patch, layer.placement.front, k)
        matte = patch.matte if left is None else patch.matte * left
        matte = matte * np.float32(layer.strength(k))
        canvas.lay(patch.box, patch.img_lin, matte)
        laid.append(LaidPatch(layer.name, patch, matte))
    return Rendered(canvas.code_values(), tuple(laid))
