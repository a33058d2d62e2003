"""Where the surface may be on the next frame: several guesses, and their best mixture place by place."""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.motion.inverse_search import InverseSearch
from gentle_veil.core.motion.mesh_registration import Light, MeshRegistration
from gentle_veil.core.motion.pyramid import GreyPyramid
from gentle_veil.core.motion.ranks import ranked
from gentle_veil.core.types import ImageF32

MIX_SIGMA_CELLS = 1.5
JUMP_COST = 0.08 / 4.0**2  # per px**2 that a place moves against the whole: noise must not carry it off
DOUBT_TIMES, DOUBT_COST = 0.3, 0.03  # of the clipped residual, by which a leap must fit better
MIX_TEMPERATURE = 0.04  # of the clipped residual
TOGETHER_PX = 4.0  # guesses further apart are not averaged: the middle of two places is neither
HIDDEN_SIGMA_CELLS = 6.0  # how far around a hidden place its neighbours are asked
SLACK_PX = 0.7
UNSEEN_COST = 0.05  # of a guess that sees nothing of what another sees
TILE_PX, TILE_HELD = 32, 0.9  # a tile's side; how much of it is the surface
FAR_PX, FAR_PEAKS, PEAK_PX = 20, 5, 2  # how far is looked; how many peaks are tried, and how wide one is
TORN_TIMES = 2.0  # the surface's size, by which places of it go apart
LEAST_INSIDE = 0.02  # of a neighbourhood, for a guess to be judged by it


@dataclass(frozen=True)
class Mixture:
    """``displacement`` (2, h, w) on the lattice, ``visible`` (h, w), ``cost`` the mean clipped residual."""

    displacement: ImageF32
    visible: ImageF32
    cost: float


class Mixer:
    """Weighs guesses by how well each puts the frame's coarse picture over the reference's."""

    def __init__(
        self,
        registration: MeshRegistration,
        pyramid: GreyPyramid,
        light: Light,
        visible: ImageF32,
        sigma: float,
    ) -> None:
        self.registration, self.pyramid, self.light, self.sigma = registration, pyramid, light, sigma
        self.before, self.held = registration.coarse(visible), registration.coarse(registration.held)
        self.guesses: list[ImageF32] = []
        self.costs: list[ImageF32] = []  # over the cells
        self.insides: list[ImageF32] = []

    def add(self, displacement: ImageF32, jump: ImageF32 | None = None, *, doubt: float = 0.0) -> None:
        """Add a guess (2, h, w); ``jump`` (2, h, w) is how far it moves from a safer one, in px.

        A jump of the whole is free but for ``doubt``, 0 to 1, for which it must fit so much better; one of a place
        against the whole is not.
        """
        r = self.registration
        seen, inside = r.glance(self.pyramid, 1, displacement)
        cost = r.misfit(1, seen, self.light, self.sigma, SLACK_PX)
        cost = np.where(inside > 0, cost, 1.0).astype(np.float32)
        self.guesses.append(displacement)
        self.costs.append(r.coarse(cost * r.held))
        self.insides.append(r.coarse(inside * r.held))
        self.costs[-1] *= np.float32(1 + DOUBT_TIMES * doubt)
        self.costs[-1] += np.float32(DOUBT_COST * doubt) * self.insides[-1]
        if jump is not None:
            cells = np.stack([r.coarse(j) for j in jump])
            self.costs[-1] += _jump_cost(cells - np.median(cells, axis=(1, 2), keepdims=True), self.insides[-1])

    def deny(self, places: ImageF32) -> None:
        """All guesses so far have been told to be wrong at ``places`` (rows, columns, 0 to 1)."""
        for cost, inside in zip(self.costs, self.insides, strict=True):
            cost += places * inside

    def leading(self, among: Sequence[int] | None = None) -> int:
        """Which guess fits best on the whole, of all or ``among`` some."""
        overall = self._overall(self.before + 0.05)
        return min(range(len(overall)) if among is None else among, key=lambda i: float(overall[i]))

    def best(self) -> ImageF32:
        """The guess (2, h, w) that fits best on the whole; from now on all others pay for moving off it."""
        best = self.guesses[self.leading()]
        for cost, guess, inside in zip(self.costs, self.guesses, self.insides, strict=True):
            cost += _jump_cost(np.stack([self.registration.coarse(d) for d in guess - best]), inside)
        return best

    def _overall(self, weight: ImageF32) -> np.ndarray:
        """The mean cost of each guess over what it sees; one that sees next to nothing of it is no good."""
        there = np.array([float((i * weight).sum()) for i in self.insides])
        cost = np.array(
            [float(((c - self.held + i) * weight).sum()) for c, i in zip(self.costs, self.insides, strict=True)]
        )
        enough = there > LEAST_INSIDE * float((self.held * weight).sum())
        unseen = 1 - there / max(float(there.max()), 1e-3)
        return np.where(enough, cost / np.maximum(there, 1e-3) + UNSEEN_COST * unseen, 1.0)

    def mix(self, last: ImageF32, familiar: ImageF32, carried: ImageF32) -> Mixture:
        """The mixture of all guesses.

        ``familiar`` (rows, columns) says over the cells where the colour is the surface's. Hidden places move on
        from ``last`` (2, h, w) as their visible neighbours do, and where there are few as ``carried`` (2, h, w) has it.
        """
        r = self.registration
        held = self.held
        weight = cv2.GaussianBlur(held, (0, 0), MIX_SIGMA_CELLS)
        # What a guess cannot see speaks neither for it nor against it: its neighbourhood does, then all it sees.
        insides = np.stack([cv2.GaussianBlur(i, (0, 0), MIX_SIGMA_CELLS) for i in self.insides])
        unseen = held - np.stack(self.insides)
        moves = np.stack([[r.coarse(g - at) for g, at in zip(guess, last, strict=True)] for guess in self.guesses])
        costs = np.stack(self.costs) - unseen
        smooth = np.stack([cv2.GaussianBlur(c, (0, 0), MIX_SIGMA_CELLS) for c in costs])
        overall = self._overall(np.ones(r.cells, np.float32))
        near = insides > LEAST_INSIDE
        smooth = np.where(near, smooth / np.maximum(insides, 1e-3), overall[:, None, None]).astype(np.float32)
        share = np.exp(-(smooth - smooth.min(axis=0)) / MIX_TEMPERATURE)
        first = np.take_along_axis(moves, smooth.argmin(axis=0)[None, None], axis=0)
        share *= np.exp(-((moves - first) ** 2).sum(axis=1) / (2 * TOGETHER_PX**2))
        share /= share.sum(axis=0)
        change = (share[:, None] * moves).sum(axis=0)
        # The coarse sharing is of changes only: the field itself keeps its detail.
        best = smooth.min(axis=0)
        # Cells beyond the outline have nothing to see; they are not hidden for that.
        unseen = (share * unseen).sum(axis=0)
        seen = np.clip(1 - unseen / np.maximum(held, 1e-3), 0, 1)
        visible = r.visibility(r.fine(best), np.ones(r.shape, np.float32)) * r.fine(familiar * seen)
        shown = r.coarse(visible) * np.clip(weight * 4, 0, 1)
        going = np.stack([r.coarse(d) for d in carried - last])
        change = going + _filled(change - going, shown)
        mean = float((best * held).sum() / max(float(held.sum()), 1e-6))
        return Mixture(last + np.stack([r.fine(c) for c in change]), visible, mean)


def _jump_cost(jump: ImageF32, inside: ImageF32) -> ImageF32:
    """Of a jump (2, rows, columns) in px, over the cells, ``inside`` (rows, columns) the share of each that is seen."""
    cost: ImageF32 = JUMP_COST * (jump**2).sum(axis=0) * inside
    return cost


def _filled(change: ImageF32, shown: ImageF32) -> ImageF32:
    """Where nothing is shown, what the surroundings do: an affine motion of all, and the rest from near by."""
    rows, columns = shown.shape
    y, x = np.mgrid[:rows, :columns].astype(np.float64)
    basis = np.stack([np.ones_like(x), x / columns - 0.5, y / rows - 0.5], axis=-1).reshape(-1, 3)
    w = shown.reshape(-1).astype(np.float64)
    out = np.empty_like(change)
    near = cv2.GaussianBlur(shown, (0, 0), HIDDEN_SIGMA_CELLS)
    for d in range(2):
        values = change[d].reshape(-1).astype(np.float64)
        weighted = basis * w[:, None]
        solution = np.linalg.solve(weighted.T @ basis + 1e-3 * np.eye(3), weighted.T @ values)
        whole = (basis @ solution).reshape(rows, columns).astype(np.float32)
        rest = cv2.GaussianBlur((change[d] - whole) * shown, (0, 0), HIDDEN_SIGMA_CELLS) / np.maximum(near, 0.05)
        out[d] = shown * change[d] + (1 - shown) * (whole + rest)
    return out


class LatticeFlow:
    """Dense motion between two pictures on the lattice, by OpenCV's DIS, in lattice points."""

    def __init__(self) -> None:
        self.search = InverseSearch(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM, finest=1)

    def between(self, a: ImageF32, b: ImageF32) -> ImageF32:
        """Flow (2, h, w) with a(x) = b(x + flow)."""
        return _flow(self.search, a, b)


class CloseFlow:
    """The last few px of motion between two pictures at full resolution, where a weave has not yet run together.

    Its reach is short: coarser pictures of a weave look alike at every period of it, and would send it astray.
    """

    def __init__(self, shape: tuple[int, int]) -> None:
        self.shape = shape
        self.search = InverseSearch(cv2.DISOPTICAL_FLOW_PRESET_ULTRAFAST, finest=0, coarsest=1)

    def between(self, a: ImageF32, b: ImageF32) -> ImageF32:
        """Flow (2, h, w) over the lattice, in px, between pictures as `MeshRegistration.look_close` gives them."""
        flow = _flow(self.search, a, b)
        return np.stack([cv2.resize(f, self.shape[::-1], interpolation=cv2.INTER_AREA) for f in flow])


def far_offsets(a: ImageF32, b: ImageF32, held: ImageF32) -> list[np.ndarray]:
    """The likeliest offsets (2,) in px, best first, with a(x) = b(x + offset): where all of a weave may have gone,
    farther than `CloseFlow` reaches, by full resolution. None where nothing is ``held`` (h, w) on the lattice.

    Tiles of a weave are nearly as like their shifted selves; their correlations, summed, have a peak for every period
    that it may have gone, which few others rival. Which of them is right tells what is then found close by.

    Convention: a and b as `MeshRegistration.look_close` gives them, b wider than a by FAR_PX on all sides
    """
    height, width = a.shape
    fine = cv2.resize(held, (width, height), interpolation=cv2.INTER_NEAREST)
    side = min(TILE_PX, height, width)
    total = np.zeros((2 * FAR_PX + 1,) * 2, np.float32)
    tiles = 0
    for y, x in itertools.product(*(range(0, n - side + 1, side // 2) for n in (height, width))):
        if fine[y : y + side, x : x + side].mean() > TILE_HELD:
            there = b[y : y + side + 2 * FAR_PX, x : x + side + 2 * FAR_PX]
            tile = np.ascontiguousarray(a[y : y + side, x : x + side])
            total += cv2.matchTemplate(there, tile, cv2.TM_CCOEFF_NORMED)
            tiles += 1
    found = []
    for _ in range(FAR_PEAKS if tiles else 0):
        _, _, _, (x, y) = cv2.minMaxLoc(total)
        found.append(np.array([x - FAR_PX, y - FAR_PX], np.float32))
        total[max(y - PEAK_PX, 0) : y + PEAK_PX + 1, max(x - PEAK_PX, 0) : x + PEAK_PX + 1] = -np.inf
    return found


def torn(guess: ImageF32, usual: ImageF32, base: ImageF32) -> bool:
    """Whether a guess tears the surface apart, beside a ``usual`` one; all (2, h, w), guesses from ``base``, in px.

    A plane that is none may have its horizon across it: places next to each other lie at both ends of the world then.
    """
    size = float(np.ptp(base + usual, axis=(1, 2)).max())
    apart = float(np.ptp(guess - usual, axis=(1, 2)).max())
    return not apart <= TORN_TIMES * size


def _flow(search: InverseSearch, a: ImageF32, b: ImageF32) -> ImageF32:
    low, high = ranked(a[::3, ::3], 0.01, 0.99)
    span = max(high - low, 1e-4)
    pictures = [np.clip((p - low) / span * 190 + 32, 0, 255).astype(np.uint8) for p in (a, b)]
    return np.ascontiguousarray(np.moveaxis(search.between(*pictures), -1, 0))
