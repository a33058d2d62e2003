"""Points followed one by one, spans that are not believed, locks, comparing and plain data, in Chromium."""

import json
import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect
from test_story import LONG, card, drag, go_to, opened, place, soon
from test_surfaces import arm, followed_patch, outline, rack, remove_drape
from test_veil_kinds import settled

pytestmark = pytest.mark.browser
TATTOO = ((360, 270), (520, 270), (520, 390), (360, 390))


@pytest.fixture(autouse=True)
def _patient(page: Page) -> None:
    page.set_default_timeout(20_000)


def asked(page: Page, server, path: str):
    """What the server answers about the deckhand's shot, or its drape ``skin 1``."""
    shots = page.request.get(f"{server.url}api/shots").json()["shots"]
    shot = next(s["id"] for s in shots if "Deckhand" in s["name"])
    return page.request.get(f"{server.url}api/shots/{shot}/{path}")


def written(page: Page, server) -> dict:
    return next(d for d in asked(page, server, "recipe").json()["recipe"]["drapes"] if d["name"] == "skin 1")


def followed_again(page: Page, last: int) -> None:
    go_to(page, last)
    card(page).get_by_role("button", name="To here").click()
    expect(card(page).get_by_text("frames followed")).to_be_visible(timeout=LONG)
    settled(page)


def test_points__are_placed_denser_taken_out_and_placed_again(page: Page, server) -> None:
    followed_patch(page, server, 24, *TATTOO, kind="Points")
    count = card(page).get_by_text(re.compile(r"Points: \d+ followed"))
    found = int(re.findall(r"\d+", count.inner_text())[0])
    assert found > 10
    expect(card(page).get_by_text(re.compile("hold by their own picture"))).to_be_visible()
    card(page).get_by_role("button", name="Place points").click()
    card(page).get_by_role("radio", name="denser around").click()
    page.mouse.click(*place(page, 440, 330))
    expect(card(page).get_by_text("denser around 1")).to_be_visible()
    card(page).get_by_role("radio", name="places a point").click()
    page.mouse.click(*place(page, 400, 300))
    expect(card(page).get_by_text("By hand: 1 placed")).to_be_visible()
    followed_again(page, 26)
    soon(lambda: int(re.findall(r"\d+", count.inner_text())[0]) > found + 10)
    # The placed point comes first among the vertices: drag it 6 px aside on frame 23; from there on it is another.
    track = asked(page, server, "drapes/skin 1/track").json()["track"]
    first, row = track["points"][0], track["frames"].index(23)

    def at(frame_row: int) -> np.ndarray:
        data = asked(page, server, "drapes/skin 1/positions").body()
        return np.frombuffer(data, "<f4").reshape(len(track["frames"]), -1, 2)[frame_row, first]

    before = at(row)
    go_to(page, 23)
    start = place(page, float(before[0]), float(before[1]))
    end = place(page, float(before[0]) + 6, float(before[1]))
    drag(page, start, end)
    expect(card(page).get_by_text("placed again on 23")).to_be_visible()
    settled(page)
    go_to(page, 24)
    expect(card(page).get_by_text(re.compile(r"On frame 24: \d+ hold"))).to_be_visible(timeout=LONG)
    settled(page)
    track = asked(page, server, "drapes/skin 1/track").json()["track"]
    moved = at(track["frames"].index(23)) - before
    np.testing.assert_allclose(moved, (6, 0), atol=1.5)
    placed = written(page, server)["follower"]["options"]["again"]
    assert [p["frame"] for p in placed] == [23]
    remove_drape(page, "skin 1")


def test_a_span__is_carried_across_and_believed_again(page: Page, server) -> None:
    followed_patch(page, server, 30, *TATTOO)
    go_to(page, 24)
    card(page).get_by_role("button", name="A span from here").click()
    go_to(page, 26)
    card(page).get_by_role("button", name="Carry across").click()
    expect(card(page).get_by_text("Not believed: 1")).to_be_visible()
    assert written(page, server)["crossed"] == [[24, 26]]
    soon(lambda: asked(page, server, "drapes/skin 1/track").json()["track"]["status"][4:7] == ["weak"] * 3)
    card(page).get_by_role("switch", name="Carried across").click()
    soon(lambda: written(page, server).get("forgotten") == [[24, 26]])
    soon(lambda: 25 not in asked(page, server, "drapes/skin 1/track").json()["track"]["frames"])
    card(page).get_by_role("button", name="Believe again").click()
    expect(card(page).get_by_text("Not believed: none")).to_be_visible()
    go_to(page, 20)
    card(page).get_by_role("button", name="This frame").click()
    expect(page.get_by_role("alert")).to_contain_text("reference frame is always known")
    remove_drape(page, "skin 1")


def test_locked__stays_as_it_is_and_says_why(page: Page, server) -> None:
    followed_patch(page, server, 22, *TATTOO)
    card(page).get_by_role("switch", name="Locked").click()
    expect(rack(page).get_by_text("locked")).to_be_visible()
    expect(card(page).get_by_role("button", name="Again")).to_be_disabled()
    card(page).get_by_role("radio", name="Mesh", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("locked")
    expect(card(page).get_by_role("radio", name="Plane", exact=True)).to_have_attribute("aria-checked", "true")
    card(page).get_by_role("switch", name="Locked").click()
    expect(rack(page).get_by_text("locked")).to_be_hidden()
    remove_drape(page, "skin 1")


def test_two_drapes__are_followed_at_once_and_compared(page: Page, server, tmp_path: Path) -> None:
    followed_patch(page, server, 23, *TATTOO)
    page.get_by_role("button", name="Draw a drape").click()
    outline(page, *TATTOO)
    expect(rack(page).get_by_text("skin 2")).to_be_visible()
    expect(card(page).get_by_role("button", name="Every drape")).to_be_visible()
    followed_again(page, 23)
    card(page).get_by_label("Compare with").select_option("skin 1")
    expect(card(page).get_by_text(re.compile("Apart by"))).to_be_visible()
    card(page).get_by_role("button", name="See it").click()
    shown = page.get_by_test_id("picture-Flat view")
    expect(shown).to_have_attribute("data-shown", re.compile("look=apart.*other=skin%201"))
    card(page).get_by_role("button", name="See it").click()
    with page.expect_download() as sent:
        card(page).get_by_role("button", name="Send JSON out").click()
    document = json.loads(Path(sent.value.path()).read_text())
    assert sent.value.suggested_filename == "skin 2 points.json"
    assert {r["frame"] for r in document["rows"]} == {20, 21, 22, 23}
    remove_drape(page, "skin 2")
    remove_drape(page, "skin 1")


def test_a_try_while_scrubbing__draws_where_it_would_be_and_keeps_nothing(page: Page, server) -> None:
    arm(page, server)
    go_to(page, 20)
    page.get_by_role("button", name="Draw a drape").click()
    outline(page, *TATTOO)
    card(page).get_by_role("switch", name="Try while scrubbing").click()
    with page.expect_response(re.compile("/draft/22"), timeout=LONG) as reply:
        go_to(page, 22)
    assert len(reply.value.json()["positions"]) > 20
    expect(rack(page).get_by_text("not followed")).to_be_visible()
    card(page).get_by_role("switch", name="Try while scrubbing").click()
    remove_drape(page, "skin 1")
    opened(page, server)


def test_second_reference__its_outline_is_dragged_met_and_given_back(page: Page, server) -> None:
    corners = np.array([[400.0, 250.0], [470.0, 250.0], [470.0, 310.0], [400.0, 310.0]])
    followed_patch(page, server, 32, *map(tuple, corners.tolist()))

    def middle(frame: int) -> np.ndarray:
        """Where the middle of the followed mesh lies; far away where it is not followed."""
        data = asked(page, server, "drapes/skin 1/track.csv?what=corners").text()
        rows = [r.split(",") for r in data.splitlines() if r.startswith(f"{frame},")]
        return np.array(rows[0][1:9], float).reshape(4, 2).mean(axis=0) if rows else np.full(2, -1e6 * frame)

    def drawn(frame: int) -> np.ndarray | None:
        outline = written(page, server)["outline"].get(str(frame))
        return None if outline is None else np.array(outline)

    there = corners + middle(30) - middle(20)
    go_to(page, 30)
    card(page).get_by_role("button", name="Also from here").click()
    expect(card(page).get_by_text("Drag the outline to where the surface is")).to_be_visible()
    soon(lambda: bool((middle(30) > 0).all()))
    assert drawn(30) is None
    expect(card(page).get_by_text("13 frames followed")).to_be_visible(timeout=LONG)
    settled(page)
    # All of it, by an edge, 9 px to the right.
    edge = (there[1] + there[2]) / 2
    drag(page, place(page, *edge), place(page, edge[0] + 9, edge[1]))
    expect(card(page).get_by_text("its outline was drawn there")).to_be_visible()
    moved = drawn(30)
    assert moved is not None
    np.testing.assert_allclose(moved.mean(axis=0), there.mean(axis=0) + np.array([9, 0]), atol=2.5)
    soon(lambda: np.abs(middle(30) - middle(20) - (moved - corners).mean(axis=0)).max() < 1.5)
    card(page).get_by_role("button", name="As followed").click()
    expect(card(page).get_by_text("its outline was drawn there")).to_be_hidden()
    soon(lambda: np.abs(middle(30) - middle(20) - (there - corners).mean(axis=0)).max() < 1.5)
    assert drawn(30) is None
    settled(page)
    # Where it is not known, its outline is laid out to be dragged.
    go_to(page, 36)
    card(page).get_by_role("button", name="Also from here").click()
    expect(card(page).get_by_text("its outline was drawn there")).to_be_visible()
    np.testing.assert_allclose(drawn(36), corners)
    drag(page, place(page, 470, 280), place(page, 476, 284))
    soon(lambda: np.abs(drawn(36) - corners - (6, 4)).max() < 1.5)
    soon(lambda: np.abs(middle(36) - middle(20) - (6, 4)).max() < 1.5)
    expect(card(page).get_by_text("100 frames followed")).to_be_visible(timeout=LONG)
    settled(page)
    remove_drape(page, "skin 1")
