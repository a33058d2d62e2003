"""Content keys: a product is known by the hash of exactly what it depends on."""

import hashlib
import json
from collections.abc import Collection
from typing import Any

from gentle_veil.domain.recipe import Drape, Outline, Veil

FOLLOW_CODE = "40"  # raised when a follower gives other numbers
RENDER_CODE = "34"


def content_key(*parts: Any) -> str:
    """32 hex digits of the canonical JSON of ``parts``."""
    text = json.dumps(parts, sort_keys=True, separators=(",", ":"), default=str)
    return hashlib.sha256(text.encode()).hexdigest()[:32]


def track_key(media_key: str, drape: Drape, passing: str = "") -> str:
    """What a drape's track depends on: the media, the outlines on its references, the follower and its options.

    ``passing``: the content of the holdouts that pass in front of it
    """
    outlines = {f: drape.outline[f].model_dump(mode="json") for f in drape.reference_frames if f in drape.outline}
    return content_key(
        "track",
        FOLLOW_CODE,
        media_key,
        drape.reference_frames,
        outlines,
        drape.follower.model_dump(mode="json"),
        *([passing] if passing else []),
    )


def prepared_key(
    track_content: str,
    drape: Drape | None,
    veil: Veil,
    marks: list[Veil],
    others: list[str],
    prepared_by: Collection[str],
) -> str:
    """What a veil's preparation depends on; its strength, feather and range are not among it.

    ``drape`` None: it rests on the picture; ``others``: artwork, faces; ``prepared_by``: the parameters that matter
    """
    return content_key(
        "prepared",
        RENDER_CODE,
        track_content,
        None if drape is None else drape.model_dump(mode="json", include={"outline", "reference_frames"}),
        [veil.kind, veil.frame, _drawn(veil.outline), [[f, _drawn(o)] for f, o in sorted(veil.shapes.items())]],
        {n: v for n, v in veil.params.items() if n in prepared_by},
        [[m.frame, _drawn(m.outline)] for m in marks],
        others,
    )


def _drawn(outline: Outline | None) -> list[object] | None:
    """An outline's curve, without how soft it is."""
    return None if outline is None else [outline.points, outline.corners]


def frame_key(media_key: str, layers: list[str], frame: int) -> str:
    """What a composed frame depends on."""
    return content_key("frame", RENDER_CODE, media_key, layers, frame)
