"""Follow a bending region: predicted from frame to frame, anchored to the reference on every frame.

Guesses come from what was before, from the plane, and from dense motion between neighbouring pictures; the place
itself from a solve against the reference picture, so that nothing drifts. What is hidden is told from how badly
whole neighbourhoods fit, and is carried by what is seen around it.
"""

from dataclasses import replace

import numpy as np

from gentle_veil.core.contracts.surface_track import (
    LOST,
    OCCLUDED,
    OK,
    OUTSIDE,
    SEEN,
    WEAK,
    SurfaceTrack,
    TrackRow,
)
from gentle_veil.core.followers.mesh.company import LOOK_MARGIN
from gentle_veil.core.followers.mesh.expected import HIDDEN_ERROR_PX, expected_error
from gentle_veil.core.followers.mesh.focusing import LEAST_BLUR
from gentle_veil.core.followers.mesh.hypotheses import Mixer, Mixture, torn
from gentle_veil.core.followers.mesh.likeness import Likeness, likeness_of
from gentle_veil.core.followers.mesh.looking import LEAST_BOX, MeshLook
from gentle_veil.core.followers.mesh.memory import Memory, learnt, likeness_around
from gentle_veil.core.followers.mesh.regrowing import regrown
from gentle_veil.core.followers.mesh.state import MeshState
from gentle_veil.core.followers.mesh.stiffness import CHOICES, Trials
from gentle_veil.core.followers.mesh.strain import reshaped, strain_of
from gentle_veil.core.followers.plane.plane import PlaneHistory, box_around, clip_box
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.geometry.thin_plate import as_moved
from gentle_veil.core.motion.mesh_precision import Stiffness
from gentle_veil.core.motion.mesh_registration import (
    COARSE,
    FIRST_SIGMA,
    NEAR,
    STEP,
    Light,
    MeshFit,
)
from gentle_veil.core.motion.pyramid import GreyPyramid
from gentle_veil.core.motion.ranks import middle
from gentle_veil.core.types import ImageF32

TRIAL_ITERATIONS = (3, 0)  # what the coarse picture says, all of them are told by one solve
LOST_CORRELATION, WEAK_CORRELATION = 0.35, 0.6
LOST_ALIKE = 0.5  # plain correlation: a mesh bends over foreign texture to about a third
FAINT_CONTRAST, NO_CONTRAST = 0.6, 0.05  # of the reference's
WEAK_ERROR_PX = 1.25  # expected of the middlemost vertex
LOST_SHARE, WEAK_SHARE = 0.12, 0.8
TOLD_SHARE = 0.5  # of the surface that is explained, from which no company can deny it
OUTSIDE_SHARE = 0.15
FITTED_TIMES = 2  # by dense motion: once leaves a quarter of a px
SUDDEN = 1.4  # times what the guesses left unexplained on the frame before
LEAP_PX = 10.0  # from where the surface went so far: whatever is found there is doubted
COMPLETED_TIMES = 3  # a part of what was lost leads to the next
STRAYED_PX = (3.0, 5.0)  # since all of the region was seen
# Times as long in some direction as when it was lost, and how much more for each hidden frame: what comes back longer,
# or as much shorter, is something else.
RESHAPED, RESHAPED_PER_FRAME = 2.0, 0.02
AWAY, UNLIKE = (2.0, 4.0), (0.3, 0.5)  # usual misses of the company; of the correlation with the reference
RECALLED, LEARN_FROM = 24, 4  # known frames that are looked at again before going on, and the last, followed again


def _ramp(values: ImageF32, low: float, high: float) -> ImageF32:
    return np.clip((values - low) / (high - low), 0, 1)


def _doubt(guess: ImageF32, steady: list[ImageF32]) -> float:
    """How much of a leap, 0 to 1, a guess (2, h, w) is from where the surface went so far."""
    away = min(middle(np.abs((guess - other)[:, ::3, ::3]).sum(axis=0)) for other in steady)
    return min(away / LEAP_PX, 1.0)


def _known_before(known: SurfaceTrack | None, reference: int, side: list[int]) -> list[int]:
    """The last few known frames before the first of a side, in its order."""
    step = 1 if side[0] > reference else -1
    out: list[int] = []
    for k in range(side[0] - step, reference, -step)[: RECALLED + LEARN_FROM]:
        if known is None or known.row(k) is None:
            break
        out.insert(0, k)
    return out


class MeshRun(MeshLook):
    """One region being followed as a mesh; another follower may put in its own guesses."""

    def reference_row(self) -> TrackRow:
        return TrackRow(self.mesh.at, np.zeros(len(self.mesh.at)), OK)

    def begin(self, known: SurfaceTrack | None, side: list[int]) -> tuple[MeshState, PlaneHistory]:
        """The state at the reference, or at the last known frame before the side's first."""
        r = self.registration
        none = np.zeros((2, *r.shape), np.float32)
        state = MeshState(
            none,
            r.home.templates[NEAR],
            np.ones(r.shape, np.float32),
            r.start_light(),
            OK,
        )
        history = self.plane.history(known, self.reference, side)
        self.trials = Trials()
        self.tint = np.zeros(2, np.float32)
        self.company.forget()
        step = 1 if side[0] > self.reference else -1
        last = side[0] - step
        row = None if known is None else known.row(last)
        if last == self.reference or known is None or row is None:
            return state, history
        return self._resumed(known, last, row, known.row(last - step)), history

    def resumed(self, known: SurfaceTrack | None, side: list[int]) -> tuple[MeshState, PlaneHistory]:
        """As `begin`, and knowing how the surface looked on the frames before the side's, their light, grain and focus,
        what goes with it, and its stiffness."""
        before = _known_before(known, self.reference, side)
        state, history = self.begin(known, [*before, *side])
        if known is not None and before:
            for k in before[:-LEARN_FROM]:
                state = self.recalled(k, state, history, known)
            for k in before[-LEARN_FROM:]:
                _, state = self.follow(k, state, history)
            row = known.row(before[-1])
            displacement = self.registration.displacement(self.mesh.controls(known.positions[row]))
            state = replace(state, displacement=displacement, status=str(known.status[row]))
        return state, history

    def recalled(self, k: int, state: MeshState, history: PlaneHistory, known: SurfaceTrack) -> MeshState:
        """The state after a frame on which the place is known: as `follow`, without looking for it."""
        r, row = self.registration, known.row(k)
        assert row is not None
        status, controls = str(known.status[row]), self.mesh.controls(known.positions[row])
        displacement = r.displacement(controls)
        self.company.go(history[-1][0], k, state.displacement, seen=state.status in SEEN)
        history.append((k, known.frame_from_ref(row), status))
        r.pictures = r.home if state.memory is None else state.memory.pictures(r.home)
        pyramid = self._pyramid(k, displacement) if status in SEEN else None
        if pyramid is None:
            return self.carried(state, displacement, status)[1]
        self._focused(pyramid, displacement, state.visible)
        fit = r.unsolved(pyramid, controls, state.light, state.visible, self.limits())
        self._shown(fit, state.light, r.fine(self._familiar(k, displacement, pyramid)))
        _, new = self._believed(k, state, fit, displacement, pyramid)
        self._learn_of_company(state, new)
        return replace(new, status=status)

    def _believed(
        self, k: int, state: MeshState, fit: MeshFit, displacement: ImageF32, pyramid: GreyPyramid
    ) -> tuple[TrackRow, MeshState]:
        """As `_taken`, of a fit that is in its place for all that others know."""
        memory = learnt(state.memory, self.registration, pyramid, displacement, fit, suspicious=False)
        likeness = likeness_of(self.registration, fit, memory.unlike)
        usual = likeness if state.memory is None else state.likeness
        return self._taken(k, replace(state, likeness=usual), fit, displacement, pyramid, memory, likeness)

    def _resumed(self, known: SurfaceTrack, last: int, row: int, before: int | None) -> MeshState:
        r = self.registration
        displacement = r.displacement(self.mesh.controls(known.positions[row]))
        pyramid = self._pyramid(last, displacement)
        seen, inside = r.look(pyramid, NEAR, displacement)
        coarse, _ = r.look(pyramid, COARSE, displacement)
        light = r.fit_light(COARSE, coarse, r.held * inside, FIRST_SIGMA, r.start_light())
        return MeshState(
            displacement,
            seen,
            np.ones(r.shape, np.float32),
            light,
            str(known.status[row]),
            None if before is None else r.displacement(self.mesh.controls(known.positions[before])),
        )

    def follow(self, k: int, state: MeshState, history: PlaneHistory) -> tuple[TrackRow, MeshState]:
        """Where the region is on frame ``k``, next to the frame of ``state``; ``history`` goes on by that frame."""
        self.company.go(history[-1][0], k, state.displacement, seen=state.status in SEEN)
        row, new = self._followed(k, state, history)
        self._learn_of_company(state, new)
        return row, new

    def _learn_of_company(self, state: MeshState, new: MeshState) -> None:
        known = state.status in SEEN and new.status in SEEN
        steps = (state.displacement, new.displacement) if known else (None, None)
        whole = new.status in SEEN and self._shown_share(new.visible) >= WEAK_SHARE
        undisturbed = whole and new.now is not None and new.now.as_usual(state.likeness)
        self.company.learn(*steps, whole=whole, undisturbed=undisturbed)

    def _followed(self, k: int, state: MeshState, history: PlaneHistory) -> tuple[TrackRow, MeshState]:
        r = self.registration
        r.pictures = r.home if state.memory is None else state.memory.pictures(r.home)
        last_plane = history[-1][1]
        # What bends may be seen where it is no plane: only what is lost is looked for in all of the picture.
        plane = self.plane.follow(k, history, seek=state.status not in SEEN)
        history.append((k, plane.frame_from_ref, plane.status))
        guesses = [state.displacement if state.status in SEEN else self.company.place]
        if state.before is not None:
            guesses.append(2 * state.displacement - state.before)
        steady = list(guesses)
        if plane.status in SEEN:
            step = plane.frame_from_ref @ np.linalg.inv(last_plane)
            here = np.moveaxis(r.base + state.displacement, 0, -1).astype(np.float64)
            flat = [apply_homography(step, here.reshape(-1, 2)).reshape(here.shape)]
            if state.status not in SEEN:
                home = np.moveaxis(r.base, 0, -1).astype(np.float64)
                flat.append(apply_homography(plane.frame_from_ref, home.reshape(-1, 2)).reshape(home.shape))
            moved = [(np.moveaxis(places, -1, 0) - r.base).astype(np.float32) for places in flat]
            guesses += [guess for guess in moved if not torn(guess, guesses[0], r.base)]
        guesses = self.guesses(k, state, guesses)
        if k in self.drawn:
            steady.append(self._by_hand(k))
            guesses.append(steady[-1])
        if state.status not in SEEN:
            guesses += self._sought(k, state)
        pyramid = self._pyramid(k, *guesses)
        if pyramid is None:
            return self.carried(state, guesses[-1], OUTSIDE)
        self._focused(pyramid, guesses[-1], state.visible)
        mixer, best, mixture, familiar = self._mixed(k, state, pyramid, guesses, steady)
        usual = np.inf if state.cost is None else SUDDEN * state.cost
        if mixture.cost > usual and r.near != state.level:
            # Sharper than of late, or softer, a picture may tell less in the bands that suit it than in those of late.
            suited, r.near = r.near, state.level
            other = self._mixed(k, state, pyramid, guesses, steady)
            if other[2].cost < mixture.cost:
                mixer, best, mixture, familiar = other
            else:
                r.near = suited
        if self.texture.fine and mixture.cost > usual:
            # Nothing that was tried fits as well as before: it may have set off, and leapt by some threads of a weave.
            other = self._mixed(k, state, pyramid, guesses, steady, thorough=True)
            if other[2].cost < mixture.cost:
                mixer, best, mixture, familiar = other
        cost = mixture.cost
        memory = state.memory
        unlike = None if memory is None else memory.unlike
        again = regrown(r, pyramid, mixture.displacement, mixture.visible, self._usual_sigma(r.near), unlike)
        if again is not None:
            if memory is not None and again.elsewhere.any():
                memory = memory.without(r, again.elsewhere)
                state = replace(state, memory=memory)
                r.pictures = self.focusing.softened(memory.pictures(r.home))
                mixer.deny(again.elsewhere)
            mixer.add(again.displacement, (again.displacement - best) * (1 - r.fine(again.surely)))
            mixture = mixer.mix(state.displacement, familiar, self.company.place)
            mixture = replace(mixture, displacement=again.leading(r, mixture.displacement, mixture.visible))
        predicted = r.lattice.fit(mixture.displacement)
        fit = self.solved(pyramid, predicted, state.light, mixture.visible, r.fine(familiar))
        if state.status not in SEEN:
            fit = self._completed(state, fit, pyramid, r.fine(familiar))
        passing = len(self.plane.held_out(k)) > 0
        if passing:
            fit.visible[...] *= r.look(pyramid, r.near, r.displacement(fit.controls))[1]
        row, new = self._judged(k, state, fit, pyramid, plane.status)
        new.cost = cost if row.status in SEEN else state.cost
        hidden = row.status in (LOST, OCCLUDED) and not passing
        if new.strange or (hidden and plane.status == WEAK):
            # What the plane took for the region may be a stranger: it must not go on from there.
            history[-1] = (k, last_plane, LOST)
        return row, new

    def _mixed(
        self,
        k: int,
        state: MeshState,
        pyramid: GreyPyramid,
        guesses: list[ImageF32],
        steady: list[ImageF32],
        *,
        thorough: bool = False,
    ) -> tuple[Mixer, ImageF32, Mixture, ImageF32]:
        """The mixture of all guesses and of what dense motion finds from the best, with its mixer, that best guess
        (2, h, w) and where the colour is the surface's; ``thorough``: what is found from each is among them."""
        r = self.registration
        mixer = Mixer(r, pyramid, state.light, state.visible, self._usual_sigma(1))
        # A plane that is hardly one may have been found a fold away; what is seen does not leap for next to nothing.
        going = self.company.judges if state.status not in SEEN else state.before is not None
        doubts = [_doubt(guess, steady) if going else 0.0 for guess in guesses]
        for guess, doubt in zip(guesses, doubts, strict=True):
            mixer.add(guess, doubt=doubt)
        if self.texture.fine and state.memory is None and state.before is None:
            # The first frame: nothing tells yet how it goes. A plane may be led by folds and be 8 px off, and dense
            # motion slips by some threads of a weave; at full resolution, where they have not yet run together, not.
            home = r.look_close(self._fine(self.reference, self._box(self.polygon)), 0 * guesses[0])
            for place in self._far_and_near(home, pyramid, guesses[0]):
                mixer.add(place)
        elif state.status not in SEEN and not self.repeats:
            # What is found by its parts is a little off everywhere, and thin lines fit no better there than in a wrong
            # place: it is fitted before it is compared. Stripes would fit everywhere.
            self._fitted(k, state, pyramid, mixer, [len(guesses) - 1])
        elif doubts[mixer.leading()] >= 1:
            # Where it leaps to it has been fitted; so is where it would go on, before the two are compared.
            self._fitted(k, state, pyramid, mixer, [i for i, doubt in enumerate(doubts) if doubt < 1])
        for guess in guesses if thorough else ():
            found = [] if state.close is None else [self._near_by(state.close, pyramid, guess)]
            for other in [*found, *self.dense_guesses(k, state, pyramid, guess)]:
                mixer.add(other)
        best = mixer.best()
        near = [] if state.close is None else [self._near_by(state.close, pyramid, best)]
        for guess in [*near, *self.dense_guesses(k, state, pyramid, best)]:
            mixer.add(guess, guess - best)
        familiar = self._familiar(k, best, pyramid)
        mixture = mixer.mix(state.displacement, familiar, self.company.place)
        if self.company.judges and state.status in SEEN:
            carried_off = self._carried_off(pyramid, mixture.displacement)
            if (carried_off > 0.5).any():
                familiar = familiar * (1 - carried_off)
                mixture = mixer.mix(state.displacement, familiar, self.company.place)
        return mixer, best, mixture, familiar

    def _fitted(self, k: int, state: MeshState, pyramid: GreyPyramid, mixer: Mixer, own: list[int]) -> None:
        """Add what dense motion finds from the best of some guesses, ``own``, which are then more by what is found."""
        for _ in range(FITTED_TIMES if own else 0):
            for guess in self.dense_guesses(k, state, pyramid, mixer.guesses[mixer.leading(own)]):
                own.append(len(mixer.guesses))
                mixer.add(guess)

    def guesses(self, k: int, state: MeshState, guesses: list[ImageF32]) -> list[ImageF32]:
        """The first guesses that are tried: displacements (2, h, w)."""
        return guesses

    def expected_at(self, displacement: ImageF32) -> bool:
        """Whether something else than the surface's own look says that it is at a displacement (2, h, w)."""
        return self.company.judges and self.company.near(displacement)

    def _by_hand(self, k: int) -> ImageF32:
        """The displacement (2, h, w) by an outline that was drawn on a frame."""
        r, drawn = self.registration, self.drawn[k]
        places = np.stack([r.coarse(axis) for axis in r.base], axis=-1).astype(np.float64)
        moved = as_moved(drawn.home, drawn.there, places.reshape(-1, 2)).reshape(places.shape) - places
        return np.stack([r.fine(axis) for axis in np.moveaxis(moved, -1, 0).astype(np.float32)])

    def _sought(self, k: int, state: MeshState) -> list[ImageF32]:
        """Displacements (2, h, w) around the company's place where the frame looks as the region did of late."""
        r = self.registration
        places, reach = self.company.box(state.hidden_for)
        box = clip_box(box_around(places, LOOK_MARGIN), *self.frames.size)
        if box[2] - box[0] < LEAST_BOX or box[3] - box[1] < LEAST_BOX:
            return []
        picture = (r.home.templates if state.memory is None else state.memory.recent)[1]
        return self.company.sought(self._fine(k, box), picture, reach)

    def dense_guesses(self, k: int, state: MeshState, pyramid: GreyPyramid, best: ImageF32) -> list[ImageF32]:
        """Displacements (2, h, w) by dense motion from the frame before and from the reference, around ``best``."""
        r = self.registration
        seen, _ = r.look(pyramid, r.near, best)
        slopes = self._slopes(best)
        before = [state.seen] if state.level == r.near else []
        flows = [self.flow.between(picture, seen) * STEP for picture in (*before, r.pictures.templates[r.near])]
        return [best + flow + slopes[0] * flow[0] + slopes[1] * flow[1] for flow in flows]

    def _carried_off(self, pyramid: GreyPyramid, displacement: ImageF32) -> ImageF32:
        """Over the cells, 0 to 1: what neither goes with the company nor looks like the reference passes in front."""
        r = self.registration
        seen, inside = r.look(pyramid, r.near, displacement)
        unlike = 1 - likeness_around(r, r.home.templates[r.near], seen, r.held * inside)
        strayed = self.company.strayed(displacement)
        return np.maximum(
            _ramp(self.company.away(displacement), *AWAY) * _ramp(unlike, *UNLIKE), _ramp(strayed, *STRAYED_PX)
        )

    def solved(self, pyramid, predicted: np.ndarray, light: Light, visible: ImageF32, familiar: ImageF32) -> MeshFit:  # type: ignore[no-untyped-def]
        r, limits = self.registration, self.limits()
        stiffness = Stiffness(self.options.bend, self.options.change)
        if self.options.automatic:
            if self.trials.due():
                self.trials.take(self._costs(pyramid, predicted, light, visible, limits))
            stiffness = self.trials.at(strain_of(r, predicted))
        fit = r.solve(pyramid, predicted, light, visible, stiffness, limits)
        self._shown(fit, light, familiar)
        return fit

    def _completed(self, state: MeshState, fit: MeshFit, pyramid: GreyPyramid, familiar: ImageF32) -> MeshFit:
        """A fit of what was lost, grown from the part that it tells to what lies beside that, while it tells more."""
        r, sigma = self.registration, self._usual_sigma(self.registration.near)
        explained = 0.0
        for _ in range(COMPLETED_TIMES):
            displacement = r.displacement(fit.controls)
            unlike = learnt(state.memory, r, pyramid, displacement, fit, suspicious=False).unlike
            now = likeness_of(r, fit, unlike).explained
            again = regrown(r, pyramid, displacement, fit.visible, sigma, unlike)
            if now <= explained or again is None:
                break
            explained, shown = now, np.maximum(fit.visible, r.fine(again.surely))
            given = (pyramid, r.lattice.fit(again.displacement), fit.light, shown, self.trials.chosen, self.limits())
            more = r.solve(*given)
            self._shown(more, state.light, familiar)
            fit = more
        return fit

    def _shown(self, fit: MeshFit, light: Light, familiar: ImageF32) -> None:
        """Tell what is seen of a fit, and keep the light before (``light``) where nothing is."""
        r = self.registration
        # Against the light as it was: what hides a place would pass for a change of light.
        misfit = r.misfit(r.near, fit.seen, light, self._usual_sigma(r.near) if self.sigmas[r.near] else fit.sigma, 0.5)
        fit.visible[...] = shown = r.visibility(misfit, r.held) * familiar
        fit.light.gain[...] = shown * fit.light.gain + (1 - shown) * light.gain
        fit.light.bias[...] = shown * fit.light.bias + (1 - shown) * light.bias

    def _costs(self, pyramid, predicted, light, visible, limits) -> list[float]:  # type: ignore[no-untyped-def]
        """Leave out blocks, and see how well each choice of stiffness foretells them."""
        r = self.registration
        kept = (~self.left_out).astype(np.float32)
        asked = r.held * visible * self.left_out
        total, sigma = max(float(asked.sum()), 1.0), self._usual_sigma(r.near)
        given = (pyramid, predicted, light, visible)
        start = r.solve(*given, self.trials.chosen, limits, hold_out=kept, iterations=(0, 2)).controls
        costs = []
        for choice in CHOICES:
            fit = r.solve(*given, choice, limits, hold_out=kept, start=start, iterations=TRIAL_ITERATIONS)
            costs.append(float((np.minimum((fit.residual / sigma) ** 2 / 9, 1.0) * asked).sum()) / total)
        return costs

    def _judged(
        self, k: int, state: MeshState, fit: MeshFit, pyramid: GreyPyramid, plane_status: str
    ) -> tuple[TrackRow, MeshState]:
        r = self.registration
        shown = self._shown_share(fit.visible)
        if fit.inside_share < OUTSIDE_SHARE and plane_status != OCCLUDED:
            return self.carried(state, r.displacement(fit.controls), OUTSIDE)
        # Out of focus, little is left to correlate; what is left still holds a surface that was seen, for a while.
        faint = state.status in SEEN and NO_CONTRAST < fit.contrast < FAINT_CONTRAST
        told = fit.correlation >= LOST_CORRELATION or faint or self._told_broadly(fit, pyramid)
        by_marks = fit.alike >= LOST_ALIKE and shown >= WEAK_SHARE
        if not (told or by_marks) or shown < LOST_SHARE:
            status = OCCLUDED if plane_status in (OK, WEAK, OCCLUDED) and shown < LOST_SHARE else LOST
            status = OUTSIDE if plane_status == OUTSIDE else status
            return self.carried(state, self.company.likely(), status)
        displacement = r.displacement(fit.controls)
        memory = learnt(state.memory, r, pyramid, displacement, fit, suspicious=self.company.judges)
        likeness = likeness_of(r, fit, memory.unlike)
        again = state.status not in SEEN
        led = k in self.drawn or self.expected_at(displacement)
        # What is left of a surface that is being hidden goes on as it went, or it is what hides it.
        part = shown < WEAK_SHARE and likeness.explained < TOLD_SHARE
        astray = self.company.judges and not led and (self.company.far(displacement) if again else part)
        if again and k not in self.drawn:
            # Squeezed, a surface finds itself in a part of itself, or in what is like it.
            most = RESHAPED + RESHAPED_PER_FRAME * state.hidden_for
            astray |= reshaped(r, fit.controls, r.lattice.fit(state.displacement)) > most
        if astray or likeness.strange(state.likeness, told=told, again=again, led=led):
            row, new = self.carried(state, self.company.likely(), LOST)
            return row, replace(new, strange=True)
        return self._taken(k, state, fit, displacement, pyramid, memory, likeness)

    def _told_broadly(self, fit: MeshFit, pyramid: GreyPyramid) -> bool:
        """Whether the coarse picture of all of a surface is the reference's, where grain drowns its finest texture."""
        # Not of skin: its coarse picture is shade, and a hand's is alike.
        if not self.texture.fine or self._shown_share(fit.visible) < WEAK_SHARE:
            return False
        less, more = sorted(self.registration.alike_at(pyramid, COARSE, fit))
        return less >= LOST_CORRELATION and more >= LOST_ALIKE

    def _taken(
        self,
        k: int,
        state: MeshState,
        fit: MeshFit,
        displacement: ImageF32,
        pyramid: GreyPyramid,
        memory: Memory,
        likeness: Likeness,
    ) -> tuple[TrackRow, MeshState]:
        """A fit that is believed, and its ``displacement`` (2, h, w): how sure it is, and what is learnt from it."""
        r, shown = self.registration, self._shown_share(fit.visible)
        self._lit(k, displacement, fit.visible)
        faint, part = fit.correlation < WEAK_CORRELATION, shown < WEAK_SHARE
        if not (faint or part):
            if self.focusing.blurs[-1] < LEAST_BLUR:
                self.focusing.learn(fit.residual, fit.visible)
            for level in (fit.level, COARSE):
                self.sigmas[level].append(fit.sigmas[level])
        error, hidden = expected_error(r, self.mesh.at, fit, memory.unsure, state.hidden)
        seen_before = state.displacement if state.status in SEEN else None
        unsure = middle(error[self.mesh.inside]) > WEAK_ERROR_PX
        told = fit.correlation >= LOST_CORRELATION and likeness.well_told(state.likeness)
        weak = part or unsure or (faint and not told)
        row = TrackRow(self.mesh.placed(fit.controls), error, WEAK if weak else OK)
        new = MeshState(displacement, fit.seen, fit.visible, fit.light, row.status, seen_before, hidden, memory)
        new.likeness, new.now, new.level = likeness.into(state.likeness), likeness, fit.level
        if self.texture.fine:
            new.close = r.look_close(pyramid, displacement)
        return row, new

    def _shown_share(self, visible: ImageF32) -> float:
        held = self.registration.held
        return float((visible * held).sum() / max(float(held.sum()), 1.0))

    def carried(self, state: MeshState, displacement: ImageF32, status: str) -> tuple[TrackRow, MeshState]:
        """Not seen: keep the place that is most likely, and say how unsure it is."""
        hidden = (np.zeros(len(self.mesh.at)) if state.hidden is None else state.hidden) + 1
        controls = self.registration.lattice.fit(displacement)
        error = 2.0 + HIDDEN_ERROR_PX * 20 * hidden
        if status != OUTSIDE and self.company.tells(float(np.median(hidden))):
            # It is not seen, but known where it is: what lies on it goes on, behind what passes.
            row = TrackRow(self.mesh.placed(controls), np.full(len(error), self.company.error_px()), WEAK)
        else:
            row = TrackRow(self.mesh.placed(controls), error, status)
        new = MeshState(
            displacement, state.seen, np.ones_like(state.visible), state.light, status, None, hidden, state.memory
        )
        new.likeness, new.level = state.likeness, state.level
        return row, new
