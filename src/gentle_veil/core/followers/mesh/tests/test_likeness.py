"""A stranger is told by how it came; a surface may change as much little by little."""

from gentle_veil.core.followers.mesh.likeness import ALIKE_SO_FAR, Likeness


def test_a_slow_turn__is_not_strange_however_far_it_goes() -> None:
    usual = ALIKE_SO_FAR
    for step in range(90):
        now = Likeness(0.008 * step, 1 - 0.008 * step)
        assert not now.strange(usual, told=True, again=False)
        usual = now.into(usual)


def test_another_thing_in_its_place__is_strange_at_once() -> None:
    assert Likeness(0.65, 0.3).strange(Likeness(0.25, 0.7), told=True, again=False)
    assert not Likeness(0.5, 0.5).strange(Likeness(0.25, 0.7), told=True, again=False)


def test_by_a_few_marks_alone__little_may_be_missing() -> None:
    assert not Likeness(0.03, 0.95).strange(ALIKE_SO_FAR, told=False, again=False)
    assert Likeness(0.2, 0.8).strange(ALIKE_SO_FAR, told=False, again=False)


def test_what_comes_back__is_told_as_well_as_before_it_was_lost() -> None:
    faint = Likeness(0.2, 0.42)
    assert faint.strange(Likeness(0.1, 0.9), told=True, again=True)
    assert not faint.strange(Likeness(0.5, 0.45), told=True, again=True)
    assert not Likeness(0.3, 0.65).strange(Likeness(0.0, 1.0), told=True, again=True)


def test_what_comes_back_in_weak_texture__is_as_alike_as_it_was() -> None:
    # All that it lacks was put down to noise.
    assert Likeness(0.0, 1.0, alike=0.13).strange(Likeness(0.04, 0.84, alike=0.77), told=True, again=True)
    assert not Likeness(0.0, 1.0, alike=0.62).strange(Likeness(0.04, 0.84, alike=0.77), told=True, again=True)
    assert not Likeness(0.0, 1.0, alike=0.13).strange(Likeness(0.0, 1.0, alike=0.15), told=True, again=True)


def test_a_part_of_what_had_not_turned_away__is_enough_where_it_is_surely_like_it() -> None:
    turned = Likeness(0.04, 0.6, alike=0.95)
    assert not Likeness(0.09, 0.25, alike=0.95).strange(turned, told=True, again=True)
    assert Likeness(0.09, 0.25, alike=0.95).strange(ALIKE_SO_FAR, told=True, again=True)
    assert Likeness(0.15, 0.25, alike=0.95).strange(turned, told=True, again=True)


def test_what_is_usual__goes_with_what_is_seen() -> None:
    usual = ALIKE_SO_FAR
    for _ in range(60):
        usual = Likeness(0.3, 0.6, alike=0.7).into(usual)
    assert abs(usual.lacks - 0.3) + abs(usual.explained - 0.6) + abs(usual.alike - 0.7) < 0.01


def test_grain_and_motion_blur__leave_a_place_well_told_and_a_loss_of_texture_does_not() -> None:
    usual = Likeness(0.02, 0.95)
    assert Likeness(0.04, 0.92).well_told(usual)
    assert not Likeness(0.2, 0.82).well_told(usual)
    assert not Likeness(0.3, 0.7).well_told(Likeness(0.3, 0.7))
