"""Following judged and helped, and painting where the surface stands still, in Chromium."""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, Response, expect
from test_story import LONG, card, drag, go_to, look, opened, place, soon
from test_veil_kinds import add, settled, shot

pytestmark = pytest.mark.browser


@pytest.fixture(autouse=True)
def _patient(page: Page) -> None:
    page.set_default_timeout(20_000)


def rack(page: Page) -> Locator:
    return page.get_by_role("navigation", name="Rack")


def arm(page: Page, server) -> None:
    opened(page, server)
    shot(page, "Deckhand")
    expect(page.get_by_label("Playhead")).to_be_visible()


def outline(page: Page, *corners: tuple[float, float]) -> None:
    for x, y in corners:
        page.mouse.click(*place(page, x, y))
    page.keyboard.press("Enter")


def followed_patch(page: Page, server, last: int, *corners: tuple[float, float], kind: str = "Plane") -> None:
    """A drape of the arm on frame 20, followed to frame ``last``; the playhead is back on 20."""
    arm(page, server)
    go_to(page, 20)
    page.get_by_role("button", name="Draw a drape").click()
    outline(page, *corners)
    card(page).get_by_role("radio", name=kind, exact=True).click()
    go_to(page, last)
    card(page).get_by_role("button", name="To here").click()
    expect(card(page).get_by_text("frames followed")).to_be_visible(timeout=LONG)
    settled(page)
    go_to(page, 20)


def previewed(reply: Response) -> str | None:
    """The look of a preview; both views ask for theirs while a stroke is drawn."""
    return reply.request.post_data_json["look"] if "/preview" in reply.url else None


def remove_drape(page: Page, name: str) -> None:
    rack(page).get_by_role("button").filter(has_text=name).first.click()
    card(page).get_by_role("button", name="Remove drape").click()
    expect(rack(page).get_by_text(name, exact=True)).to_be_hidden()


def test_checks_and_holdout__what_passes_is_kept_out_and_the_way_back_is_measured(page: Page, server) -> None:
    arm(page, server)
    go_to(page, 20)
    page.get_by_role("button", name="Draw a drape").click()
    outline(page, (400, 250), (470, 250), (470, 310), (400, 310))
    expect(card(page).get_by_text("Outline: 4 points")).to_be_visible()
    go_to(page, 24)
    card(page).get_by_role("button", name="To here").click()
    expect(card(page).get_by_text("frames followed")).to_be_visible(timeout=LONG)
    settled(page)
    for kind in ("checker", "dots", "trails", "grid"):
        card(page).get_by_role("radio", name=kind, exact=True).click()
    look(page, "Tracked")
    expect(page.get_by_test_id("picture-Shot view")).to_have_attribute("data-shown", re.compile("look=tracked"))
    card(page).get_by_role("button", name="Residual").click()
    expect(page.get_by_test_id("picture-Flat view")).to_have_attribute("data-shown", re.compile("look=residual"))
    card(page).get_by_role("button", name="Residual").click()
    look(page, "Result")
    card(page).get_by_role("button", name="Measure").click()
    expect(card(page).get_by_text(re.compile("Way back: off by"))).to_be_visible(timeout=LONG)
    settled(page)
    page.get_by_role("button", name="Hold something out").click()
    outline(page, (420, 265), (440, 265), (440, 285), (420, 285))
    expect(card(page).get_by_text("Shape: keyed on 1 frame")).to_be_visible()
    expect(rack(page).get_by_text("not followed")).to_be_visible()
    go_to(page, 20)
    drag(page, place(page, 430, 275), place(page, 436, 275))
    expect(card(page).get_by_text("Shape: keyed on 2 frames")).to_be_visible()
    card(page).get_by_role("button", name="Remove holdout").click()
    expect(rack(page).get_by_text("Held out")).to_be_hidden()
    # Without it the drape is what had been followed before.
    expect(rack(page).get_by_text("not followed")).to_be_hidden()
    remove_drape(page, "skin 1")


def test_vectors__are_analysed_counted_and_freed(page: Page, server) -> None:
    arm(page, server)
    go_to(page, 20)
    page.get_by_role("button", name="Draw a drape").click()
    outline(page, (400, 250), (470, 250), (470, 310), (400, 310))
    card(page).get_by_role("radio", name="Vectors", exact=True).click()
    expect(card(page).get_by_text("Vectors of the shot")).to_be_visible()
    card(page).get_by_label("Vectors", exact=True).select_option("quick")
    go_to(page, 22)
    card(page).get_by_role("button", name="To here").click()
    expect(card(page).get_by_text("frames followed")).to_be_visible(timeout=LONG)
    expect(card(page).get_by_text(re.compile(r"^4 of \d+$"))).to_be_visible()
    settled(page)
    card(page).get_by_role("button", name="Free").first.click()
    expect(card(page).get_by_text(re.compile(r"^0 of \d+$"))).to_be_visible()
    remove_drape(page, "skin 1")


def test_face_part__is_found_and_draped(page: Page, server) -> None:
    opened(page, server)
    shot(page, "Pilot")
    go_to(page, 40)
    page.get_by_role("button", name="Drape a part of a face").click()
    page.get_by_role("menuitem", name="forehead").click(timeout=LONG)
    expect(card(page).get_by_role("radio", name="Face", exact=True)).to_have_attribute("aria-checked", "true")
    expect(rack(page).get_by_text("forehead")).to_be_visible()
    remove_drape(page, "forehead")


def test_panes__are_dragged_remembered_and_put_back(page: Page, server) -> None:
    followed_patch(page, server, 22, (390, 240), (490, 240), (490, 320), (390, 320))

    def width(view: str) -> float:
        box = page.get_by_test_id(f"view-{view} view").bounding_box()
        assert box is not None
        return box["width"]

    shot, flat = width("Shot"), width("Flat")
    page.keyboard.press("Shift+V")
    soon(lambda: abs(width("Flat") - shot) < 12)
    assert abs(width("Shot") - flat) < 12
    look_of = page.get_by_label("What is seen").and_(page.get_by_role("combobox"))
    look_of.select_option("matte")  # there is no room for buttons
    expect(page.get_by_test_id("picture-Shot view")).to_have_attribute("data-shown", re.compile("look=matte"))
    look_of.select_option("result")
    page.keyboard.press("Shift+V")
    soon(lambda: abs(width("Flat") - flat) < 2)
    line = page.get_by_role("separator", name="Width of the rack")
    box = line.bounding_box()
    assert box is not None
    drag(page, (box["x"], 300), (box["x"] + 60, 300))
    soon(lambda: (line.bounding_box() or box)["x"] > box["x"] + 50)
    frame = page.get_by_label("Frame", exact=True).input_value()
    line.focus()
    page.keyboard.press("ArrowLeft")
    assert page.get_by_label("Frame", exact=True).input_value() == frame
    soon(lambda: (line.bounding_box() or box)["x"] < box["x"] + 50)
    dragged = (line.bounding_box() or box)["x"]
    page.reload()
    soon(lambda: line.count() > 0 and abs((line.bounding_box() or box)["x"] - dragged) < 2)
    page.keyboard.press("Control+k")
    page.keyboard.type("panes back")
    page.keyboard.press("Enter")
    soon(lambda: abs((line.bounding_box() or box)["x"] - box["x"]) < 2)
    remove_drape(page, "skin 1")


def test_painting__a_stroke_follows_the_surface_and_can_be_taken_back(page: Page, server) -> None:
    followed_patch(page, server, 23, (390, 240), (490, 240), (490, 320), (390, 320))
    add(page, "Paint")
    expect(card(page).get_by_text("Strokes: none")).to_be_visible()
    settled(page)
    flat = page.get_by_test_id("view-Flat view").bounding_box()
    assert flat is not None
    x, y = flat["x"] + flat["width"] / 2, flat["y"] + flat["height"] / 2
    card(page).get_by_role("button", name="Take the brush").click()
    page.mouse.click(x, y)
    expect(page.get_by_role("alert")).to_contain_text("Set the brush's source first")
    page.get_by_role("alert").get_by_role("button", name="Close").click()
    card(page).get_by_label("Brush tool").select_option("colour")
    card(page).get_by_label("Brush colour").fill("#2040c0")
    card(page).get_by_role("radio", name="tone only").click()
    with page.expect_response(lambda r: r.status == 200 and previewed(r) == "result"):
        page.mouse.move(x - 20, y)
        page.mouse.down()
        page.mouse.move(x, y + 4)
        page.mouse.move(x + 20, y)
    page.mouse.up()
    expect(card(page).get_by_text("Strokes: 1")).to_be_visible()
    settled(page)
    expect(page.get_by_test_id("picture-Shot view")).to_have_attribute("data-shown", re.compile("look=result"))
    page.keyboard.press("Escape")
    card(page).get_by_role("button", name="Remove stroke 1").click()
    expect(card(page).get_by_text("Strokes: none")).to_be_visible()
    page.keyboard.press("Control+z")
    expect(card(page).get_by_text("Strokes: 1")).to_be_visible()
    settled(page)
    card(page).get_by_role("button", name="Move stroke 1", exact=True).click()
    with page.expect_response(lambda r: r.status == 200 and "/recipe" in r.url and r.request.method == "PUT") as sent:
        drag(page, (x, y), (x + 24, y - 10))
    points = sent.value.request.post_data_json["recipe"]["veils"][0]["params"]["strokes"][0]["points"]
    settled(page)
    with page.expect_response(lambda r: r.status == 200 and r.url.endswith("/undo")):
        page.keyboard.press("Control+z")
    settled(page)
    with page.expect_response(lambda r: r.status == 200 and "/recipe" in r.url and r.request.method == "PUT") as again:
        drag(page, (x, y), (x, y - 10))
    before = again.value.request.post_data_json["recipe"]["veils"][0]["params"]["strokes"][0]["points"]
    assert points[0][0] > before[0][0] + 5
    assert points[0][1] == pytest.approx(before[0][1], abs=0.05)
    settled(page)
    remove_drape(page, "skin 1")


def test_smoothing__is_corrected_by_brush_and_seen_as_a_tint(page: Page, server) -> None:
    followed_patch(page, server, 22, (390, 240), (490, 240), (490, 320), (390, 320))
    add(page, "Smooth")
    card(page).get_by_role("button", name="Show it").click()
    shown = page.get_by_test_id("picture-Shot view")
    expect(shown).to_have_attribute("data-shown", re.compile("look=tint"))
    card(page).get_by_role("button", name="Take the brush").click()
    x, y = place(page, 440, 280)
    with page.expect_response(lambda r: r.status == 200 and previewed(r) == "tint"):
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 12, y + 2)
        page.mouse.move(x + 24, y)
    page.mouse.up()
    expect(card(page).get_by_text("Strokes: 1")).to_be_visible()
    expect(card(page).get_by_text("1 take")).to_be_visible()
    settled(page)
    page.keyboard.press("Escape")
    page.get_by_role("button", name="tint", exact=True).click()
    expect(shown).to_have_attribute("data-shown", re.compile("look=edge"))
    card(page).get_by_role("button", name="Read them").click()
    expect(card(page).get_by_role("img", name="Grain over the shot")).to_be_visible(timeout=LONG)
    look(page, "Result")
    remove_drape(page, "skin 1")


def test_edge__is_softer_where_a_point_is_dragged_with_shift(page: Page, server) -> None:
    followed_patch(page, server, 22, (380, 230), (500, 230), (500, 330), (380, 330))
    page.get_by_role("button", name="Mark", exact=True).click()
    drag(page, place(page, 440, 280), place(page, 460, 280))
    expect(card(page).get_by_text(re.compile("px away"))).to_be_visible(timeout=LONG)
    settled(page)
    page.keyboard.down("Shift")
    drag(page, place(page, 460, 280), place(page, 475, 280))
    page.keyboard.up("Shift")
    card(page).get_by_text("Edit as a list").click()
    softer = card(page).get_by_label("Point 1 feather", exact=True)
    expect(softer).to_have_value(re.compile(r"^(4\.9|5|5\.1)"))
    expect(card(page).get_by_label("Point 5 feather", exact=True)).to_have_value("1")
    expect(card(page).get_by_label("Point 1 x", exact=True)).to_have_value(re.compile(r"^4(59|60)"))
    settled(page)
    page.keyboard.press("Control+z")
    expect(softer).to_have_value("1")
    settled(page)
    remove_drape(page, "skin 1")


def test_donors__one_more_place_is_added_dragged_and_keyed(page: Page, server) -> None:
    followed_patch(page, server, 22, (380, 230), (500, 230), (500, 330), (380, 330))
    page.get_by_role("button", name="Mark", exact=True).click()
    drag(page, place(page, 440, 280), place(page, 450, 280))
    expect(card(page).get_by_text(re.compile("px away"))).to_be_visible(timeout=LONG)
    settled(page)
    card(page).get_by_role("button", name="Add a place").click()
    second = card(page).get_by_role("group", name="Donor 2")
    across = second.get_by_label("Across", exact=True)
    expect(across).to_be_visible()
    settled(page)
    before = float(across.input_value())
    down = float(second.get_by_label("Down", exact=True).input_value())
    drag(page, place(page, 440 + before, 280 + down), place(page, 440 + before + 6, 280 + down))
    expect(across).not_to_have_value(f"{before:g}")
    assert abs(float(across.input_value()) - before - 6) < 1.5
    settled(page)
    second.get_by_role("button", name="Key Turn").click()
    expect(second.get_by_text("this frame").first).to_be_visible()
    card(page).get_by_role("button", name="Remove donor 2").click()
    card(page).get_by_role("button", name="Remove donor 1").click()
    expect(card(page).get_by_text(re.compile("px away"))).to_be_visible(timeout=LONG)
    settled(page)
    remove_drape(page, "skin 1")


def test_vertices__single_ones_by_hand_and_fewer_where_nothing_bends(page: Page, server) -> None:
    followed_patch(page, server, 22, (400, 250), (470, 250), (470, 310), (400, 310), kind="Mesh")
    heading = card(page).get_by_role("heading", name=re.compile(r"^Vertices: \d+$"))

    def count() -> int:
        return int((heading.text_content() or "").split()[-1])

    before = count()
    card(page).get_by_role("button", name="Add or take away").click()
    page.mouse.click(*place(page, 433, 277))
    expect(card(page).get_by_text("By hand: 1 added, 0 taken away.")).to_be_visible()
    expect(heading).to_have_text(f"Vertices: {before + 1}")
    page.keyboard.down("Shift")
    page.mouse.click(*place(page, 450, 290))
    page.keyboard.up("Shift")
    expect(card(page).get_by_text("By hand: 1 added, 1 taken away.")).to_be_visible()
    expect(heading).to_have_text(f"Vertices: {before}")
    card(page).get_by_role("button", name="Done").click()
    card(page).get_by_label("Only where it bends").click()
    expect(heading).not_to_have_text(f"Vertices: {before}")
    assert 4 <= count() < before
    card(page).get_by_role("button", name="As followed").click()
    expect(heading).to_have_text(f"Vertices: {before}")
    remove_drape(page, "skin 1")


def test_plates__whole_frames_go_out_and_come_back_for_their_frames(page: Page, server, tmp_path: Path) -> None:
    followed_patch(page, server, 23, (390, 240), (490, 240), (490, 320), (390, 320))
    page.get_by_role("button", name="Mark", exact=True).click()
    drag(page, place(page, 440, 280), place(page, 450, 280))
    expect(rack(page).get_by_text("spot 1")).to_be_visible()
    settled(page)
    card(page).get_by_label("Way", exact=True).select_option("brought in")
    expect(card(page).get_by_text("Plates: none")).to_be_visible()
    for frame, scope in ((20, "reference 20"), (23, "frame 23")):
        go_to(page, frame)
        sent = card(page).get_by_role("link", name=f"The whole frame {frame}, 16-bit PNG").get_attribute("href")
        (tmp_path / f"plate {frame}.png").write_bytes(page.request.get(server.url.rstrip("/") + (sent or "")).body())
        card(page).get_by_role("radio", name=scope).click()
        page.get_by_label("Artwork files").set_input_files(str(tmp_path / f"plate {frame}.png"))
    expect(card(page).get_by_text("Plates: 2")).to_be_visible()
    expect(card(page).get_by_role("button", name="Leave out the plate of frame 23")).to_be_visible()
    settled(page)
    expect(page.get_by_test_id("picture-Shot view")).to_have_attribute("data-shown", re.compile("look=result"))
    card(page).get_by_role("button", name="Leave out the plate of frame 23").click()
    expect(card(page).get_by_text("Plates: 1")).to_be_visible()
    card(page).get_by_role("button", name="Remove veil").click()
    expect(rack(page).get_by_text("spot 1")).to_be_hidden()
    remove_drape(page, "skin 1")
