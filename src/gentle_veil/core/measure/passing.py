"""What passes in front of a surface, found without being drawn: pixels that are neither it nor light upon it.

Each frame is carried back to the reference and compared with how the surface looks on the shot's other frames. First
what is surely a thing is looked for: it has another colour, or another tone and not the surface's drawing, or hides
what is drawn there. It tells on which frames something passes, and how that looks. On those the light is that of the
undisturbed frames around; each pixel has odds by colour, tone and drawing, and the split into surface and thing with
the best odds, and with borders where the picture has edges, is found; where light is mixed, how much is the thing's.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box, grown
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.measure.belonging import motion_at
from gentle_veil.core.measure.foreign import LEAST_AREA, drawn_odds, limits_of, odds, sure_things
from gentle_veil.core.measure.shares import THING, Shares, shares_of
from gentle_veil.core.measure.surface_look import DARK, Look, Plane, coarser, level, light_of, lit_by, look_on
from gentle_veil.core.measure.thing_colours import ThingColours
from gentle_veil.core.measure.two_labels import border_costs, split
from gentle_veil.core.measure.undrawn import Drawing, Shown, drawing_of, fit, moving, shown
from gentle_veil.core.retouch.offsets import line_kernel
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32, Points

MODEL_FRAMES = 24  # from which the usual look is taken
FINEST_SIDE, COARSE_SIDE = 440, 220  # field px; a larger surface is looked at in larger steps
MARGIN = 8  # reference px around the outline
STEADY_LIGHT = np.array([0.02, 0.02, 0.02])  # share of the weight with which light stays what it was
HOLD_FROM, HOLD_FRAMES = 0.35, 24  # of the surface that is hidden, from which its light is held, and how long
HIDDEN_PX = 5  # field px around a hidden drawing, that tell nothing of the light
NEW_LIGHT_CHROMA, NEW_LIGHT_SHARE = 0.15, 0.8  # a flash has light's colour, and is all over
DISTURBED, BESIDE = 0.02, 3  # share of the surface that is surely hidden; frames on each side of such a one
REFITS, REFIT_STAYS, REFIT_ASIDE = 2, np.array([0.015, 0.05, 0.05]), 2  # rounds; share of the weight; field px
LIKELIER_AS_WAS = 1.15  # by which light is rather what the frames around say
ODDS_SHARE = 0.35  # what neighbours say is mostly the same
EDGE = 0.07  # natural log
LIGHT_STEP = 4  # field px
LEAST_WAY, SHUTTERS = 3.0, (0.5, 1.0, 1.5, 2.0)  # field px from which it is smeared; how long it may be open, of half
BARE, LEAST_ODDS = 0.4, 1.0  # label; mean odds from which a piece is a thing


def passing(
    frames: FrameSource, track: SurfaceTrack, polygon_ref: Points, *, report: Report = silent
) -> dict[str, Any]:
    """What passes in front of a drape: ``{"box", "step", "frames": {k: packed (h, w) uint8}, "lights", "light_step"}``.

    Convention: ``box`` on the reference, fields in steps of ``step`` px of it: the share of the light, of 255, that
                comes from what is in front; frames on which nothing passes are left out. ``lights`` (h, w, 3) float16
                scene-linear, in so many times larger steps: the thing's own light, on frames on which that is mixed
                with the surface's. Empty where the surface is seen on too few frames to know it
    """
    seen = [int(k) for k in track.frames if track.seen(int(k))]
    reference = track.reference_frames[0]
    box = clip_box(bounding_box(polygon_ref, MARGIN), *frames.size)
    if box is None or len(seen) < 3 or reference not in seen:
        return {}
    side = max(box[2] - box[0], box[3] - box[1])
    step = max(1, int(np.ceil(side / FINEST_SIDE)))
    picks = [seen[i] for i in np.unique(np.linspace(0, len(seen) - 1, MODEL_FRAMES).round().astype(int))]
    there = _Place(frames, track, box, step)
    here = there.look(reference)
    ones = []
    for i, k in enumerate(picks):
        report(i, 2 * len(seen) + len(picks), f"learning how the surface looks, frame {k}")
        off = there.look(k) - here
        start = level(np.median(off.reshape(-1, 3), axis=0))
        everywhere = np.ones(off.shape[:2], np.float32)
        ones.append(here + off - lit_by(light_of(off, start, everywhere, STEADY_LIGHT)[0], off.shape))
    usual = np.median(ones, axis=0).astype(np.float32)
    inside = polygon_mask((polygon_ref - box[:2]) / step, usual.shape[1], usual.shape[0])
    search = _Search(there, Look(usual, np.stack(ones), inside), max(1, int(np.ceil(side / step / COARSE_SIDE))))
    done = len(picks)
    for side_of_it in ([k for k in seen if k >= reference], [k for k in reversed(seen) if k < reference]):
        for k in search.seeds(side_of_it):
            done += 1
            report(done, 2 * len(seen) + len(picks), f"looking for what passes, frame {k}")
    found, lights = {}, {}
    for k, things in search.things(seen):
        done += 1
        report(done, 2 * len(seen) + len(picks), f"looking how far it goes, frame {k}")
        if things.share.any():
            found[str(k)] = pack((things.share * 255).astype(np.uint8))
        if things.own is not None:
            light = np.maximum(things.own - DARK, 0)[::LIGHT_STEP, ::LIGHT_STEP]
            lights[str(k)] = pack(light.astype(np.float16))
    return {"box": list(box), "step": step, "frames": found, "lights": lights, "light_step": LIGHT_STEP}


@dataclass(frozen=True)
class _Place:
    frames: FrameSource
    track: SurfaceTrack
    box: Box
    step: int

    def look(self, k: int) -> ImageF32:
        return look_on(self.frames, self.track, k, self.box, self.step)

    def way(self, k: int) -> Points:
        """The step (2,) in field px that the surface makes while the shutter is open for half of frame ``k``."""
        x0, y0, x1, y1 = self.box
        corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], np.float64)
        row = self.track.row(k)
        assert row is not None
        half = motion_at(self.track, corners, k) / 2
        ends = self.track.carry(corners.mean(axis=0)[None], row) + np.array([-half, half])
        return np.asarray(np.diff(self.track.to_reference(ends, row), axis=0)[0] / self.step)


@dataclass(frozen=True)
class _As:
    """How the surface looks on a frame, over the coarse field and the fine one, and its drawings there."""

    coarse: Look
    fine: Look
    drawings: tuple[Drawing, ...]


@dataclass
class _Search:
    """Seeds first, frame by frame away from the reference; then things, wherever there are seeds near by in time.

    Seeds, light and drawing are told on a field ``times`` as coarse as that of the things.
    """

    place: _Place
    fine: Look
    times: int
    colours: ThingColours = field(default_factory=ThingColours)
    lights: dict[int, Plane] = field(default_factory=dict)
    softness: dict[int, int] = field(default_factory=dict)
    ways: dict[int, Points] = field(default_factory=dict)
    disturbed: set[int] = field(default_factory=set)

    def __post_init__(self) -> None:
        self.coarse: Look = self.fine.coarser(self.times)
        self.limits: tuple[float, float] = limits_of(self.coarse)
        self.drawings: tuple[Drawing, ...] = drawing_of(self.coarse.tone, self.coarse.tones, self.coarse.inside)

    def seeds(self, ks: list[int]) -> Iterator[int]:
        """What is surely a thing on frames that lie ever farther from the reference: its colours, and the light.

        While a thing hides much of the surface the light is held: what fits then may be the thing's own
        """
        before, held, softness = np.zeros(3), 0, 0
        for k in ks:
            seen = coarser(self.place.look(k), self.times)
            self.ways[k] = self._way(k, seen)
            here = self._as(k)
            look, off = here.coarse, seen - here.coarse.usual
            drawn = _drawn(seen, here.drawings, softness)
            softness = drawn.softness
            over_drawing = grown(drawn.hidden, HIDDEN_PX)
            free = look.steady * ~over_drawing
            light, share = light_of(off, level(before), free, STEADY_LIGHT)
            middle = np.median(off[free > 0], axis=0) if (free > 0).any() else before
            anew, more = light_of(off, level(middle), free, STEADY_LIGHT)
            change, all_free = middle - before, max(float(free[::2, ::2].sum()), 1e-9)
            colourless = np.linalg.norm(change - change.mean()) < NEW_LIGHT_CHROMA
            if more > max(share, NEW_LIGHT_SHARE * all_free) and colourless:
                light = anew
            things = sure_things(look.usual + off - lit_by(light, off.shape), look, self.limits)
            hidden = things | over_drawing
            held = held + 1 if hidden[look.inside].mean() > HOLD_FROM and held < HOLD_FRAMES else 0
            if max(share, more) > 0.5 * all_free and held == 0:
                before = light[0]
            sure = cv2.erode(((things | drawn.hidden) & look.inside).astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
            if sure.sum() >= LEAST_AREA:
                self.colours.learn(k, seen, sure)
                if look.steady[sure].sum() > DISTURBED * look.steady.sum():
                    self.disturbed.add(k)
            self.lights[k], self.softness[k] = light, softness
            yield k

    def things(self, ks: list[int]) -> Iterator[tuple[int, Shares]]:
        """The things on each frame, over the fine field."""
        lights = undisturbed(self.lights, ks, self.disturbed)
        for k in ks:
            colours = self.colours.near(k)
            if colours is None:
                yield k, Shares(np.zeros(self.fine.usual.shape[:2], np.float32))
            else:
                yield k, self._split(k, self.place.look(k), lights[k], colours)

    def _way(self, k: int, seen: ImageF32) -> Points:
        """The step (2,) in field px that the surface makes while the shutter seems to be open on frame ``k``, ``seen``
        (h, w, 3) over the coarse field; none where it is too short to see."""
        way = self.place.way(k)
        if not self.drawings or np.hypot(*way) < LEAST_WAY * self.times:
            return np.zeros(2)
        sharp, tone = self.drawings[:1], seen.mean(axis=-1)
        fits = {0.0: fit(sharp, tone)}
        for part in SHUTTERS:
            fits[part] = fit(moving(sharp, line_kernel(*(part / self.times * way))), tone)
        return max(fits, key=lambda part: fits[part]) * way

    def _as(self, k: int) -> _As:
        """How the surface looks on frame ``k``, smeared along its way."""
        way = self.ways[k]
        if not way.any():
            return _As(self.coarse, self.fine, self.drawings)
        coarse = line_kernel(*(way / self.times))
        return _As(self.coarse.moving(coarse), self.fine.moving(line_kernel(*way)), moving(self.drawings, coarse))

    def _split(self, k: int, seen: ImageF32, light: Plane, colours: np.ndarray) -> Shares:
        small, here = coarser(seen, self.times), self._as(k)
        look, off = here.coarse, small - here.coarse.usual
        drawn = drawn_odds(_drawn(small, here.drawings, self.softness[k]))
        for _ in range(REFITS):
            label, _ = _labels(small, off - lit_by(light, off.shape), look, colours, drawn)
            light = _refitted(off, light, look, ~grown(label > BARE, REFIT_ASIDE))
        rest = seen - here.fine.usual - lit_by(light, seen.shape)
        told = cv2.resize(drawn, seen.shape[1::-1], interpolation=cv2.INTER_LINEAR)
        label, said = _labels(seen, rest, here.fine, colours, told)
        return shares_of(_whole(label, said), seen, seen - rest, here.fine)


def _drawn(seen: ImageF32, drawings: tuple[Drawing, ...], softness: int) -> Shown:
    if not drawings:
        nothing = np.zeros(seen.shape[:2], bool)
        return Shown(nothing, nothing.astype(np.float32), softness)
    return shown(seen.mean(axis=-1), drawings, softness)


def _labels(
    seen: ImageF32, rest: ImageF32, look: Look, colours: np.ndarray, drawn: MatteF32
) -> tuple[MatteF32, MatteF32]:
    """Labels (h, w) in [0, 1], 1 for a thing, and the odds."""
    said = odds(seen, look.usual + rest, look, colours) + drawn
    return split(-ODDS_SHARE * said, *border_costs((rest, seen), EDGE)), said


def _refitted(off: ImageF32, light: Plane, look: Look, bare: MaskBool) -> Plane:
    """The light on what is ``bare`` (h, w), near what it is by the frames around unless something else fits better."""
    weight, rest = look.steady * bare, off - lit_by(light, off.shape)
    if not (weight > 0).any():
        return light
    stays = REFIT_STAYS * float(look.steady.sum()) / max(float(weight.sum()), 1e-9)
    as_was, share = light_of(rest, level(np.zeros(3)), weight, stays)
    anew, more = light_of(rest, level(np.median(rest[weight > 0], axis=0)), weight, stays)
    return light + (anew if more > LIKELIER_AS_WAS * share else as_was)


def _whole(label: MatteF32, said: MatteF32) -> MatteF32:
    """Labels without the pieces (h, w) that are too small or too unsure to be things."""
    count, pieces = cv2.connectedComponents((label > THING).astype(np.uint8))
    area = np.bincount(pieces.ravel(), minlength=count)
    mean = np.bincount(pieces.ravel(), said.ravel(), minlength=count) / np.maximum(area, 1)
    kept = (area >= LEAST_AREA) & (mean > LEAST_ODDS)
    kept[0] = False
    things = kept[pieces]
    return np.where(grown(things, 1), label, 0) if things.any() else np.zeros_like(label)


def undisturbed(lights: dict[int, Plane], ks: list[int], disturbed: set[int]) -> dict[int, Plane]:
    """The light on each frame, between that of the nearest frames on both sides on which nothing passes."""
    near = {j for k in disturbed for j in range(k - BESIDE, k + BESIDE + 1)}
    calm = [k for k in ks if k not in near]
    if not calm:
        return lights
    planes = np.stack([lights[k] for k in calm]).reshape(len(calm), -1)
    out = np.stack([np.interp(ks, calm, column) for column in planes.T], axis=1)
    return {k: plane.reshape(3, 3) for k, plane in zip(ks, out, strict=True)}
