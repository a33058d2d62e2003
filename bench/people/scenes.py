"""Fourteen shots: seven faces, four arms and three cloths, in other light, with things passing."""

from collections.abc import Callable

import numpy as np

from people.body import normals, turn
from people.person import Person, Turns
from people.shots import Camera, Light, Shot
from people.things import Sheet, cloth, coat, drawing, mole, print_on, weave

Motion = Callable[[float], float]
LIMB = ("shoulder", "upperarm", "lowerarm", "wrist", "finger", "metacarpal")
FACE_BOX, LIMB_BOX, CLOTH_BOX = (300, 60, 680, 470), (150, 60, 810, 480), (200, 80, 760, 460)
EXPRESSIONS = [
    (0, 6.3, 1.4),
    *((s * x, y, z) for s in (1, -1) for x, y, z in ((0.45, 6.5, 1.2), (0.3, 7.7, 1.4), (0.6, 6.9, 0.9))),
]


def _soft(at: float, width: float, most: float) -> Motion:
    return lambda t: most * np.exp(-(((t - at) / width) ** 2))


def _acting(seed: int, yaw: Motion, pitch: Motion, roll: Motion, jaw: float) -> Turns:
    """The head turns, the mouth talks, the eyes wander and blink twice."""
    rng = np.random.default_rng(seed)
    pace, phase = rng.uniform(0.25, 0.75, 3), rng.uniform(0, 6, 3)

    def turns(t: float) -> dict[str, np.ndarray]:
        out = {
            bone: turn((0, 1, 0), share * yaw(t)) @ turn((1, 0, 0), share * pitch(t)) @ turn((0, 0, 1), share * roll(t))
            for bone, share in (("neck01", 0.15), ("neck02", 0.2), ("head", 0.65))
        }
        said = 0.35 + float((np.array([0.3, 0.25, 0.2]) * np.sin(pace * t + phase)).sum())
        blink = max(np.exp(-(((t - at) / 1.8) ** 2)) for at in (20, 75))
        out["jaw"] = turn((1, 0, 0), jaw * max(said, 0))
        for side in "LR":
            out[f"orbicularis03.{side}"] = turn((1, 0, 0), -0.3 * blink)
            out[f"eye.{side}"] = turn((0, 1, 0), 0.15 * np.sin(t / 17))
        return out

    return turns


def _expression(person: Person, seed: int) -> Callable[[float], np.ndarray]:
    """Skin that moves a little around mouth, cheeks and brow."""
    rng, at = np.random.default_rng(seed), person.body.base.vertices
    near = np.exp(-((at[:, None] - np.array(EXPRESSIONS)) ** 2).sum(axis=-1) / (2 * 0.28**2))
    ways, pace, phase = rng.normal(size=(7, 3)) * 0.03, rng.uniform(0.06, 0.3, 7), rng.uniform(0, 6, 7)
    return lambda t: np.asarray((near * np.sin(pace * t + phase)) @ ways)


def _on_face(person: Person, *worn: tuple[np.ndarray, float, float, float]) -> None:
    """Lay marks on a face: what, how large, and where, x and y in model units from the front."""
    front = person.body.base.vertices * (1, -1, -1)
    for art, size, x, y in worn:
        person.wear_at(art, size, front, (x, -y), 0.2)


def _passing_arm(seed: int, skin: str, move: Callable[[float], tuple[float, float, float]]) -> Person:
    other = Person(seed, skin, only=LIMB, texture_size=1536)
    other.move = lambda t: np.array(move(t))
    return other


def mate() -> Shot:
    """A freckled face that turns from side to side; somebody else's arm passes."""
    person = Person(12, "young_caucasian_male", hair="short04", contrast=1.6, freckles=0.7)
    person.turns = _acting(
        5,
        lambda t: 0.55 * np.sin((t - 40) / 26),
        lambda t: 0.12 * np.sin(t / 17),
        lambda t: 0.06 * np.sin(t / 21),
        0.13,
    )
    person.bend = _expression(person, 13)
    rose, brown = drawing("rose", "2a3f5c"), mole("5a3524", 3)
    _on_face(person, (brown, 0.16, -0.36, 6.75), (mole("8c3a30", 4, 0.6), 0.12, 0.15, 7.75), (rose, 0.5, 0.47, 6.85))
    arm = _passing_arm(51, "middleage_african_male", lambda t: (0.11 * (t - 52) - 4.3, 4.4 + 0.5 * np.sin(t / 14), 0.6))
    light = Light(lambda t: (0.008 * t - 0.5, 0.6, 0.8), gain=lambda t: 1 + 0.1 * np.sin(t / 14))
    camera = Camera((0.4, 7.3, 9.2), (0.1, 6.9, 1.0), 1500)
    return Shot([*person.things, *arm.things], lambda t: camera, light, 40, 12, FACE_BOX)


def keeper() -> Shot:
    """A dark face with next to no texture that turns fast; a shadow crosses, and focus is lost for a while."""
    person = Person(23, "middleage_african_female", hair="Braid01", brows="eyebrow004", contrast=2.4)
    person.turns = _acting(
        9,
        lambda t: -0.65 * np.sin((t - 35) / 22),
        lambda t: 0.1 * np.sin(t / 12 + 1),
        lambda t: 0.08 * np.sin(t / 30),
        0.13,
    )
    person.bend = _expression(person, 24)
    letters, dark = drawing("letters", "d8c9a0", 0.7), mole("1c0f0a", 5)
    _on_face(person, (dark, 0.15, -0.36, 6.7), (letters, 0.5, 0.46, 6.8), (mole("6a2f26", 8, 0.5), 0.14, 0.3, 7.3))

    def shadow(t: float) -> tuple[float, ...]:
        return 1, 0.25, 0.1 + 0.03 * t, 0.2, 0.45, 1.2

    def camera(t: float) -> Camera:
        return Camera((0.2 + 0.004 * t, 7.2, 8.6), (0.004 * t, 6.9, 1.0), 1400)

    light = Light(lambda t: (0.7, 0.5, 0.7 - 0.004 * t), (5.4, 5.0, 4.5), shadow=shadow)
    return Shot(person.things, camera, light, 40, 23, FACE_BOX, _soft(62, 9, 1.6), 0.010)


def elder() -> Shot:
    """An old face; the camera pans, a coat passes, and it grows lighter."""
    person = Person(34, "old_asian_male", hair="short02", hair_tone=1.3, contrast=1.6)
    person.turns = _acting(
        15,
        lambda t: 0.45 * np.sin((t - 30) / 19),
        lambda t: 0.15 * np.sin(t / 15) - 0.1,
        lambda t: 0.05 * np.sin(t / 12),
        0.18,
    )
    person.bend = _expression(person, 35)
    bands, brown = drawing("bands", "303a30", 0.75), mole("4a2a1c", 13)
    _on_face(person, (brown, 0.2, -0.36, 6.6), (mole("70402c", 14, 0.7), 0.14, 0.36, 6.8), (bands, 0.5, 0.1, 7.7))
    passing = coat(7, "2c2a33", 4.2, lambda t: 0.19 * t - 9, 1.6)
    light = Light(lambda t: (-0.4, 0.7, 0.9), (2.0, 2.0, 2.1), gain=lambda t: 1.03 + 0.13 * np.tanh((t - 50) / 20))

    def camera(t: float) -> Camera:
        return Camera((0.01 * t - 0.5, 7.1, 9.6), (0.008 * t - 0.35, 6.9, 1.0), 1500)

    return Shot([*person.things, passing], camera, light, 40, 34, FACE_BOX, pan=0.6)


def nurse() -> Shot:
    """A pale face under dark hair that turns fast, brightest and smeared on the reference; a hand passes."""
    person = Person(61, "young_asian_female", hair="bob01", contrast=1.8, freckles=0.2)
    person.turns = _acting(
        31,
        lambda t: 0.3 * np.sin((t - 40) / 15),
        lambda t: 0.22 * np.sin((t - 40) / 11),
        lambda t: 0.1 * np.sin(t / 18),
        0.12,
    )
    person.bend = _expression(person, 62)
    rose, brown = drawing("rose", "5a2038"), mole("6a3a2c", 3)
    _on_face(person, (brown, 0.13, -0.34, 6.8), (mole("8c3a30", 4, 0.6), 0.14, 0.1, 7.75), (rose, 0.45, 0.44, 6.85))
    arm = _passing_arm(53, "young_asian_female", lambda t: (0.13 * (t - 60) - 4.3, 4.6 + 0.3 * np.sin(t / 10), 0.6))
    light = Light(lambda t: (0.7 - 0.012 * t, 0.5, 0.8), (2.2, 2.0, 1.8), gain=lambda t: 1 + 0.15 * np.sin(t / 20))

    def camera(t: float) -> Camera:
        x, y = 0.05 * np.sin(t / 8), 0.05 * np.sin(t / 6)
        return Camera((0.3 + 1.2 * x, 7.3 + y, 9.4), (x, 6.9 + y, 1.0), 1500)

    return Shot([*person.things, *arm.things], camera, light, 40, 61, FACE_BOX)


def mariner() -> Shot:
    """A face that turns by 50 degrees to both sides, in light from one of them; a stick passes, focus is lost."""
    person = Person(71, "middleage_asian_male", hair="short01", contrast=1.6, freckles=0.1)
    person.turns = _acting(
        37,
        lambda t: 0.8 * np.sin((t - 40) / 30),
        lambda t: 0.12 * np.sin(t / 14),
        lambda t: 0.07 * np.sin(t / 23),
        0.15,
    )
    person.bend = _expression(person, 72)
    bands, brown = drawing("bands", "303a50"), mole("4a2a1c", 3)
    _on_face(person, (brown, 0.14, -0.36, 6.75), (mole("70402c", 4, 0.7), 0.13, 0.2, 7.7), (bands, 0.5, -0.42, 6.95))
    leaning = np.array([[0.9, 0.42, 0], [-0.42, 0.9, 0], [0, 0, 1]])
    stick = Sheet(
        (0.25, 9),
        (40, 6),
        weave("twill", 5, 256, "30241c"),
        lambda t, flat: flat @ leaning + np.array([0.09 * t - 5.2, 7, 3.0]),
    )
    light = Light(lambda t: (0.9, 0.4, 0.5), (2.6, 2.4, 2.2), gain=lambda t: 0.95 + 0.002 * t)
    camera = Camera((0.2, 7.2, 9.4), (0.0, 6.9, 1.0), 1500)
    return Shot([*person.things, stick], lambda t: camera, light, 40, 71, FACE_BOX, _soft(72, 8, 1.4))


def pilot() -> Shot:
    """A fair face that tilts far while the camera comes nearer; lanterns flicker, and a hand of her own skin passes."""
    person = Person(91, "young_caucasian_female", hair="ponytail01", contrast=1.4, freckles=0.15)
    person.turns = _acting(
        41,
        lambda t: 0.25 * np.sin((t - 50) / 20),
        lambda t: 0.12 * np.sin(t / 13),
        lambda t: 0.45 * np.sin((t - 50) / 24),
        0.2,
    )
    person.bend = _expression(person, 92)
    anchor, brown = drawing("anchor", "33405a"), mole("6a4a38", 3)
    _on_face(person, (brown, 0.12, 0.33, 6.7), (mole("9c4a40", 4, 0.7), 0.16, -0.12, 7.72), (anchor, 0.45, -0.44, 6.85))
    arm = _passing_arm(93, "young_caucasian_female", lambda t: (4.9 - 0.11 * (t - 20), 4.7 + 0.3 * np.sin(t / 11), 0.6))
    flicker = np.convolve(np.random.default_rng(94).normal(size=120), (0.25, 0.5, 0.25), "same")
    light = Light(
        lambda t: (-0.5, 0.1 + 0.1 * np.sin(t / 9), 0.9),
        (2.3, 1.9, 1.4),
        gain=lambda t: 1 + 0.06 * np.interp(t, np.arange(-5, 115), flicker),
    )

    def camera(t: float) -> Camera:
        return Camera((0.2, 7.2, 10.8 - 0.032 * t), (0.0, 6.9, 1.0), 1500)

    return Shot([*person.things, *arm.things], camera, light, 50, 91, FACE_BOX)


def singer() -> Shot:
    """A dark face that sings with a wide mouth and leaves the picture for a while; the camera shakes."""
    person = Person(101, "young_african_male", hair="short04", contrast=2.0, freckles=0.05)
    person.turns = _acting(
        43,
        lambda t: 0.35 * np.sin((t - 30) / 13),
        lambda t: 0.2 * np.sin(t / 10),
        lambda t: 0.12 * np.sin(t / 16),
        0.4,
    )
    person.bend = _expression(person, 102)
    bands, pale = drawing("bands", "101418"), mole("c0907c", 3)
    _on_face(person, (pale, 0.15, -0.2, 6.35), (mole("140c08", 4, 0.4), 0.1, 0.3, 6.75), (bands, 0.45, -0.1, 7.75))

    def camera(t: float) -> Camera:
        x, y = 0.05 * np.sin(t / 2.3), 0.04 * np.sin(t / 1.9)
        away = 2.6 * np.exp(-(((t - 62) / 7) ** 2))
        return Camera((0.3 + x + away, 7.2 + y, 8.8), (x + away, 6.9 + y, 1.0), 1500)

    light = Light(lambda t: (0.6, 0.4 + 0.006 * t, 0.8), (5.0, 4.6, 4.4), gain=lambda t: 1 + 0.1 * np.sin(t / 16))
    return Shot(person.things, camera, light, 30, 101, FACE_BOX)


def _arm(seed: int, skin: str, **more: object) -> tuple[Person, np.ndarray]:
    """Somebody's left arm, and (4, 3) the forearm's middle and axes: along it, beside it, towards us."""
    person = Person(seed, skin, only=LIMB, contrast=3.5, texture_size=4096, **more)  # type: ignore[arg-type]
    elbow, wrist = person.body.joint("lowerarm01.L"), person.body.joint("wrist.L")
    along = (wrist - elbow) / np.linalg.norm(wrist - elbow)
    out = np.array([0.7, 0.62, -0.1])
    out = out - along * (out @ along)
    out /= np.linalg.norm(out)
    base = person.body.base
    flesh = np.exp(-((((base.vertices - elbow) @ along - 0.7) / 0.45) ** 2)) * (base.vertices[:, 0] > 2.6)
    flesh = 0.05 * flesh[:, None] * normals(base.vertices, base.triangles)
    person.bend = lambda t: flesh * np.sin(t / 9)
    return person, np.stack([(elbow + wrist) / 2, along, np.cross(along, out), out])


def _twisting(axes: np.ndarray, twist: Motion, bend: Motion) -> Turns:
    _, along, beside, _ = axes
    return lambda t: {
        "lowerarm01.L": turn(beside, bend(t)) @ turn(along, 0.35 * twist(t)),
        "lowerarm02.L": turn(along, 0.4 * twist(t)),
        "wrist.L": turn(along, 0.25 * twist(t)) @ turn(beside, 0.3 * bend(t)),
    }


def stoker() -> Shot:
    """A light forearm that twists; a shadow's edge crosses it, and a post passes."""

    def shadow(t: float) -> tuple[float, ...]:
        return 0.6, -0.4, 1.0 + 0.012 * t, 0.06, 0.5, 0.9

    light = Light(lambda t: (0.6, 0.9, 0.2 + 0.004 * t), (2.2, 2.05, 1.9), shadow=shadow)
    art = drawing("anchor", "24324a")
    person, axes = _arm(45, "young_caucasian_male", freckles=0.3)
    person.turns = _twisting(axes, lambda t: 0.9 * np.sin((t - 30) / 24), lambda t: 0.25 * np.sin((t - 30) / 17))
    middle, out = axes[0], axes[3]
    camera = Camera(middle + 6 * out, middle, 1500)
    person.wear_at(art, 0.62, camera.project(person.skin.at(30)), (480, 270), 0.2)
    post = Sheet(
        (0.35, 8),
        (40, 12),
        weave("twill", 3, 512, "5b4632"),
        lambda t, flat: (flat + np.array([0.065 * t - 3.2, 0, 2.2])) @ axes[1:] + middle,
    )
    return Shot([*person.things, post], lambda t: camera, light, 30, 45, LIMB_BOX)


def docker() -> Shot:
    """A spotted forearm that twists far, from ever further off; out of focus at first, and a dark coat passes."""
    light = Light(lambda t: (0.5 - 0.006 * t, 0.8, 0.4), (2.4, 2.2, 2.0), gain=lambda t: 1 + 0.1 * np.sin(t / 13))
    person, axes = _arm(81, "middleage_caucasian_male", freckles=0.1)
    person.turns = _twisting(axes, lambda t: 1.3 * np.sin((t - 40) / 21), lambda t: 0.3 * np.sin((t - 40) / 15))
    middle, out = axes[0], axes[3]

    def camera(t: float) -> Camera:
        aside, up = np.array([0.04 * np.sin(t / 5), 0, 0]), np.array([0, 0.03 * np.sin(t / 4), 0])
        return Camera(middle + (5.6 + 0.012 * t) * out + aside + up, middle + aside, 1500)

    person.wear_at(drawing("rose", "202a38"), 0.55, camera(40).project(person.skin.at(40)), (460, 270), 0.3)
    sleeve = Sheet(
        (2.2, 8),
        (40, 24),
        weave("twill", 6, 512, "23262e"),
        lambda t, flat: (flat + np.array([0.09 * t - 7.5, 0, 2.0])) @ axes[1:] + middle,
    )
    return Shot([*person.things, sleeve], camera, light, 40, 81, LIMB_BOX, _soft(20, 6, 1.5))


def diver() -> Shot:
    """A fair forearm that swings fast, smeared; warm light goes cold, and a hand of the same skin passes."""
    light = Light(
        lambda t: (0.4, 0.9, 0.3),
        (2.3, 2.0, 1.7),
        gain=lambda t: 1 + 0.2 * np.tanh((t - 55) / 12),
        ambient=((0.3, 0.36, 0.5), (0.3, 0.24, 0.16)),
    )
    person, axes = _arm(111, "young_caucasian_female", freckles=0.2)
    person.turns = _twisting(axes, lambda t: 0.7 * np.sin((t - 50) / 9), lambda t: 0.4 * np.sin((t - 50) / 11))
    middle, out = axes[0], axes[3]

    def camera(t: float) -> Camera:
        aside = np.array([0.25 * np.sin(t / 6), 0.15 * np.sin(t / 8), 0])
        return Camera(middle + 5.8 * out + aside, middle + aside, 1500)

    person.wear_at(drawing("letters", "6a2030", 0.75), 0.5, camera(20).project(person.skin.at(20)), (450, 270), 0.2)
    arm = _passing_arm(112, "young_caucasian_female", lambda t: (0, 0, 0))
    arm.move = lambda t: 1.3 * out + axes[2] * (0.09 * (t - 55)) - axes[1] * 1.6
    return Shot([*person.things, *arm.things], camera, light, 20, 111, LIMB_BOX)


def cook() -> Shot:
    """A dark, glossy forearm, out of focus for a while; the camera is held in the hand."""
    light = Light(lambda t: (0.9 - 0.006 * t, 0.6, 0.5), (5.8, 5.4, 4.8), gain=lambda t: 1 + 0.15 * np.sin(t / 11))
    art = drawing("letters", "0c1016", 0.8)
    person, axes = _arm(56, "young_african_male", gloss=0.12)
    person.turns = _twisting(axes, lambda t: -0.8 * np.sin((t - 50) / 20), lambda t: -0.3 * np.sin((t - 50) / 23))

    def camera(t: float) -> Camera:
        middle = axes[0] + (0.15 * np.sin(t / 9), 0.1 * np.sin(t / 7), 0)
        return Camera(middle + 6 * axes[3], middle, 1500)

    person.wear_at(art, 0.7, camera(50).project(person.skin.at(50)), (440, 270), 0.2)
    return Shot(person.things, camera, light, 50, 56, LIMB_BOX, _soft(75, 8, 1.8))


def _cloth_shot(sheet: Sheet, light: Light, seed: int, passing: list[object], defocus: Motion = lambda t: 0.0) -> Shot:
    camera = Camera((0, 0, 10), (0, 0, 0), 1150)
    return Shot([sheet, *passing], lambda t: camera, light, 20, seed, CLOTH_BOX, defocus)


def sail() -> Shot:
    """Twill that crumples, out of focus for a while."""
    light = Light(lambda t: (0.005 * t - 0.6, 0.5, 0.9), (1.9, 1.8, 1.7))
    return _cloth_shot(cloth("twill", 67, "8c7a5c"), light, 67, [], _soft(60, 9, 1.5))


def flag() -> Shot:
    """A printed cloth that waves hard under a bright sky; somebody's arm passes."""
    light = Light(lambda t: (0.3, 0.9, 0.5), (2.5, 2.4, 2.3), gain=lambda t: 1 + 0.1 * np.sin(t / 12))
    arm = _passing_arm(53, "middleage_african_male", lambda t: (0.08 * (t - 45) - 5.6, 0.3 * np.sin(t / 12) - 2.2, 2.2))
    sheet = cloth("twill", 121, "a8503c", 2.2)
    print_on(sheet, drawing("anchor", "f0e8d0", 0.95), 1.3, (-0.5, 0.2), 0.15)
    return _cloth_shot(sheet, light, 121, arm.things)


def apron() -> Shot:
    """Striped cloth, whose stripes look alike all along; an arm passes."""
    light = Light(lambda t: (0.5, 0.6, 0.8 + 0.003 * t), (2.3, 2.2, 2.0), gain=lambda t: 1 + 0.08 * np.sin(t / 10))
    arm = _passing_arm(52, "young_asian_female", lambda t: (0.07 * (t - 40) - 5.6, 0.3 * np.sin(t / 12) - 2.2, 2.2))
    return _cloth_shot(cloth("striped", 78, "3c4f6a", 1.3), light, 78, arm.things)


ALL = (mate, keeper, elder, nurse, mariner, pilot, singer, stoker, docker, diver, cook, sail, flag, apron)
SHOTS: dict[str, Callable[[], Shot]] = {shot.__name__: shot for shot in ALL}
