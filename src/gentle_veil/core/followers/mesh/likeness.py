"""Whether what is seen is still the surface of the reference, or something else in its place."""

from dataclasses import dataclass

from gentle_veil.core.motion.mesh_registration import MeshFit, MeshRegistration
from gentle_veil.core.types import ImageF32

# Mean share of the reference's texture that what is seen lacks. Skin that turns by 60 degrees and cloth out of focus
# reach .55, little by little; another face that passes has .65 and more, at once. Less is allowed where a few strong
# marks are all that tells it.
STRANGE, STRANGE_AT_ONCE, STRANGE_UNTOLD = 0.6, 0.25, 0.06
# What comes back has to be told better than what went on: this much of the reference explained, hidden places and all,
# or nearly as much as before it was lost.
EXPLAINED_AGAIN, AS_BEFORE = 0.6, 0.9
# And be as alike as this share of what it was: in weak texture what lacks may all be put down to noise.
AS_ALIKE = 0.65
# What comes back where its company has it may have turned meanwhile.
LED_ALIKE, LED_LACKS, LED_MORE, EXPLAINED_LED = 0.7, 0.35, 0.05, 0.2
# What is seen of it and nothing else: a part is enough, from which the rest is found.
SURELY_ALIKE, SURELY_LACKS, EXPLAINED_SURELY = 0.85, 0.1, 0.35
EXPLAINED_WELL = 0.8  # and as usual: what else there is in the picture is grain or motion blur
USUAL_FROM = 0.1  # of a frame goes into what is usual of late


@dataclass(frozen=True)
class Likeness:
    """What a frame has to do with the reference: the share of its texture that what is seen ``lacks``, and the share of
    the surface that is ``explained``, hidden places and all; ``alike`` is the plain correlation of what is seen."""

    lacks: float
    explained: float
    alike: float = 1.0

    def strange(self, usual: "Likeness", *, told: bool, again: bool, led: bool = False) -> bool:
        """Whether this is something else, however steadily it is followed, after what was ``usual`` of late.

        ``told``: by its texture, not by a few marks alone; ``again``: it was not seen on the frame before; ``led``: it
        lies where what goes with it says
        """
        expected = min(EXPLAINED_AGAIN, AS_BEFORE * usual.explained)
        if led and self.alike >= LED_ALIKE and self.lacks <= max(LED_LACKS, usual.lacks + LED_MORE):
            expected = min(expected, EXPLAINED_LED)
        if self.alike >= SURELY_ALIKE and self.lacks <= SURELY_LACKS:
            # Of what could be seen of late: the rest of it has turned away.
            expected = min(expected, EXPLAINED_SURELY * usual.explained)
        if again and (self.explained < expected or self.alike < AS_ALIKE * usual.alike):
            return True
        return self.lacks > (max(STRANGE, usual.lacks + STRANGE_AT_ONCE) if told else STRANGE_UNTOLD)

    def as_usual(self, usual: "Likeness") -> bool:
        """Whether as much of the surface is explained as was ``usual`` of late: nothing begins to hide it."""
        return self.explained >= AS_BEFORE * usual.explained

    def well_told(self, usual: "Likeness") -> bool:
        """Whether the surface's own texture tells the place, however much else there is in the picture."""
        return self.explained >= EXPLAINED_WELL and self.as_usual(usual)

    def into(self, usual: "Likeness") -> "Likeness":
        """What is usual of late, with this frame."""
        return Likeness(
            usual.lacks + USUAL_FROM * (self.lacks - usual.lacks),
            usual.explained + USUAL_FROM * (self.explained - usual.explained),
            usual.alike + USUAL_FROM * (self.alike - usual.alike),
        )


ALIKE_SO_FAR = Likeness(0.0, 1.0)


def likeness_of(r: MeshRegistration, fit: MeshFit, unlike: ImageF32) -> Likeness:
    """The likeness of a fit, ``unlike`` over the registration's cells as `Memory` has it."""
    shown, there = r.coarse(r.held * fit.visible), r.coarse(r.held * fit.inside)
    explained = float(((1 - unlike) * shown).sum())
    share = min(explained / max(float(there.sum()), 1e-6), 1.0)
    return Likeness(1 - explained / max(float(shown.sum()), 1e-6), share, fit.alike)
