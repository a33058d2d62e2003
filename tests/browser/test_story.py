"""The real interface in Chromium, through the whole story on the demo film. The tests build on one another."""

import re
import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
import pytest
from playwright.sync_api import Locator, Page, expect

from gentle_veil.core.geometry.outline import outline_polygon
from gentle_veil.media.open_media import open_frames, probe
from gentle_veil.media.stills import read_still

pytestmark = pytest.mark.browser
ROOT = Path(__file__).resolve().parents[2]
SPOT = (472, 125)
LONG = 180_000


@pytest.fixture(autouse=True)
def _patient(page: Page) -> None:
    page.set_default_timeout(20_000)


def opened(page: Page, server) -> Page:
    page.goto(server.url)
    expect(page.get_by_role("navigation", name="Stages")).to_be_visible()
    return page


def go_to(page: Page, frame: int) -> None:
    field = page.get_by_label("Frame", exact=True)
    field.fill(str(frame))
    field.press("Enter")
    expect(page.get_by_label("Playhead")).to_have_attribute("aria-valuenow", str(frame))


def place(page: Page, x: float, y: float) -> tuple[float, float]:
    """Where a pixel of the demo picture stands on the screen while the whole picture is shown."""
    box = page.get_by_test_id("view-Shot view").bounding_box()
    assert box is not None
    scale = min((box["width"] - 16) / 960, (box["height"] - 16) / 540)
    left, top = box["x"] + (box["width"] - 960 * scale) / 2, box["y"] + (box["height"] - 540 * scale) / 2
    return left + (x + 0.5) * scale, top + (y + 0.5) * scale


def drag(page: Page, start: tuple[float, float], end: tuple[float, float]) -> None:
    page.mouse.move(*start)
    page.mouse.down()
    page.mouse.move((start[0] + end[0]) / 2, (start[1] + end[1]) / 2)
    page.mouse.move(*end)
    page.mouse.up()


def stage(page: Page, name: str) -> Locator:
    return page.get_by_role("navigation", name="Stages").get_by_role("button", name=re.compile(f"^{name}"))


def card(page: Page) -> Locator:
    return page.get_by_role("complementary", name="Card")


def look(page: Page, name: str) -> None:
    page.get_by_role("radio", name=name, exact=True).click()


def picture(page: Page) -> Locator:
    return page.get_by_test_id("picture-Shot view")


def soon(true: Callable[[], bool]) -> None:
    """Wait until something holds that no element tells; the page forbids evaluated strings, as it should."""
    deadline = time.monotonic() + 20
    while not true():
        assert time.monotonic() < deadline, "did not happen"
        time.sleep(0.05)


def kept_range(page: Page, server) -> tuple[int, int]:
    """The first shot's in and out frame as the library has them."""
    shot = page.request.get(f"{server.url}api/shots").json()["shots"][0]
    return shot["in_frame"], shot["out_frame"]


def test_opening__the_film_is_there_and_the_next_step_is_said(page: Page, server) -> None:
    opened(page, server)
    expect(page.get_by_text("Nothing is followed yet.")).to_be_visible()
    expect(card(page).get_by_text("25 fps")).to_be_visible()
    expect(card(page).get_by_text("h264, yuv420p, 8 bit")).to_be_visible()
    expect(picture(page)).to_have_attribute("data-shown", re.compile(r"\.png"))
    for name in ("Shot", "Drape", "Veil", "Proof", "Hand over"):
        expect(stage(page, name)).to_be_visible()


def test_playing__moves_the_playhead_and_keys_step(page: Page, server) -> None:
    opened(page, server)
    head = page.get_by_label("Playhead")
    page.keyboard.press("ArrowRight")
    expect(head).to_have_attribute("aria-valuenow", "1")
    page.keyboard.press("Shift+ArrowRight")
    expect(head).to_have_attribute("aria-valuenow", "11")
    expect(page.get_by_label("Timecode")).to_have_text("00:00:00:11")
    page.keyboard.press(" ")
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    expect(head).to_have_attribute("aria-valuenow", re.compile("^[2-9][0-9]$"))
    page.keyboard.press("k")
    go_to(page, 10)
    page.keyboard.press("i")
    go_to(page, 20)
    page.keyboard.press("o")
    soon(lambda: kept_range(page, server) == (10, 20))
    page.keyboard.press("Home")
    expect(head).to_have_attribute("aria-valuenow", "10")
    page.keyboard.press("Shift+I")
    page.keyboard.press("Home")
    expect(head).to_have_attribute("aria-valuenow", "0")
    # What follows in this story is for all frames: the range has arrived before the page is closed.
    soon(lambda: kept_range(page, server) == (0, 99))


def test_take_a_spot_off__one_drag_then_it_is_gone(page: Page, server) -> None:
    opened(page, server)
    go_to(page, 40)
    page.get_by_role("button", name="Take a spot off").click()
    drag(page, place(page, *SPOT), place(page, SPOT[0] + 13, SPOT[1]))
    expect(page.get_by_role("navigation", name="Rack").get_by_text("spot 1")).to_be_visible()
    expect(card(page).get_by_text(re.compile("px away"))).to_be_visible(timeout=LONG)
    expect(page.get_by_role("navigation", name="Rack").get_by_text(re.compile("100"))).to_be_visible(timeout=LONG)
    expect(picture(page)).to_have_attribute("data-shown", re.compile("look=result"))
    # What the browser shows is what the core composed: nearer to the clean twin than the plate is.
    reply = page.request.get(server.url.rstrip("/") + (picture(page).get_attribute("data-shown") or "").split(" ")[0])
    result = cv2.imdecode(np.frombuffer(reply.body(), np.uint8), cv2.IMREAD_COLOR)[..., ::-1].astype(float)
    folder = ROOT / "demo" / "footage" / "pilot"
    plate = open_frames(folder / "plate.mp4", probe(folder / "plate.mp4"))[40].astype(float)
    clean = open_frames(folder / "clean.mp4", probe(folder / "clean.mp4"))[40].astype(float)
    part = (slice(SPOT[1] - 8, SPOT[1] + 9), slice(SPOT[0] - 8, SPOT[0] + 9))
    tone = [abs((picture - clean)[part].mean(axis=(0, 1))).mean() for picture in (plate, result)]
    assert tone[1] < 0.3 * tone[0]


def test_seeing__wipe_difference_matte_and_overlays_while_held(page: Page, server) -> None:
    opened(page, server)
    page.get_by_role("button", name="spot 1", exact=False).first.click()
    go_to(page, 40)
    for name, part in (
        ("Original", "frames/40"),
        ("Wipe", "look=result"),
        ("Difference", "look=result"),
        ("Matte", "look=matte"),
    ):
        look(page, name)
        expect(picture(page)).to_have_attribute("data-shown", re.compile(part))
    look(page, "Result")
    overlay = "document.querySelectorAll('[data-testid=\"view-Shot view\"] canvas')[1]"
    inked = (
        f"(() => {{ const c = {overlay}; const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;"
        " let n = 0; for (let i = 3; i < d.length; i += 4) n += d[i] > 0; return n; })()"
    )
    assert page.evaluate(inked) > 100
    page.keyboard.down("h")
    soon(lambda: page.evaluate(inked) == 0)
    page.keyboard.up("h")
    soon(lambda: page.evaluate(inked) > 100)


def test_editing__feather_undo_redo_and_history(page: Page, server) -> None:
    opened(page, server)
    page.get_by_role("button", name="spot 1", exact=False).first.click()
    feather = card(page).get_by_label("Feather", exact=True)
    feather.fill("8")
    feather.press("Enter")
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()
    expect(card(page).get_by_label("Reset Feather")).to_be_visible()
    feather.blur()
    page.get_by_role("button", name="Undo").click()
    expect(card(page).get_by_label("Feather", exact=True)).to_have_value("3")
    page.get_by_role("button", name="Redo").click()
    expect(card(page).get_by_label("Feather", exact=True)).to_have_value("8")
    page.get_by_role("button", name="History").click()
    page.get_by_label("Version name").fill("for review 1")
    page.get_by_role("button", name="Name this state").click()
    expect(page.get_by_role("dialog").get_by_text("for review 1")).to_be_visible()
    page.keyboard.press("Escape")


def test_drape__draw_points_edit_them_and_follow(page: Page, server) -> None:
    opened(page, server)
    go_to(page, 40)
    page.get_by_role("button", name="Draw a drape").click()
    for x, y in ((400, 220), (470, 225), (465, 310), (405, 305)):
        page.mouse.click(*place(page, x, y))
    page.keyboard.press("Enter")
    expect(card(page).get_by_text("Outline: 4 points")).to_be_visible()
    expect(card(page).get_by_text(re.compile("^Not followed"))).to_be_visible()
    drag(page, place(page, 400, 220), place(page, 392, 214))
    on_the_line = outline_polygon(np.array([[392, 214], [470, 225], [465, 310], [405, 305]]))[6]
    page.mouse.dblclick(*place(page, *on_the_line))
    expect(card(page).get_by_text("Outline: 5 points")).to_be_visible()
    page.mouse.click(*place(page, 465, 310))
    page.keyboard.press("Delete")
    expect(card(page).get_by_text("Outline: 4 points")).to_be_visible()
    page.get_by_role("radio", name="Plane").click()
    card(page).get_by_role("switch", name="Perspective").click()
    card(page).get_by_role("button", name="Forwards").click()
    expect(card(page).get_by_text(re.compile("60 frames followed"))).to_be_visible(timeout=LONG)
    page.get_by_role("button", name="Mark", exact=True).click()
    drag(page, place(page, 428, 268), place(page, 436, 268))
    expect(page.get_by_role("navigation", name="Rack").get_by_text("spot 2")).to_be_visible()
    expect(card(page).get_by_text(re.compile("Taken from"))).to_be_visible(timeout=LONG)
    card(page).get_by_role("button", name="Remove veil").click()
    card(page).get_by_role("button", name="Remove drape").click()
    expect(page.get_by_role("navigation", name="Rack").get_by_text("skin 2")).to_be_hidden()


def test_mesh_and_tack__the_surface_bends_and_is_corrected_with_one_drag(page: Page, server) -> None:
    opened(page, server)
    go_to(page, 40)
    page.get_by_role("button", name="Draw a drape").click()
    for x, y in ((400, 220), (470, 225), (465, 310), (405, 305)):
        page.mouse.click(*place(page, x, y))
    page.keyboard.press("Enter")
    expect(card(page).get_by_text("Outline: 4 points")).to_be_visible()
    expect(page.get_by_role("radio", name="Mesh")).to_be_checked()
    expect(card(page).get_by_text("Find stiffness")).to_be_visible()
    go_to(page, 50)
    card(page).get_by_role("button", name="To here").click()
    expect(card(page).get_by_text("frames followed")).to_be_visible(timeout=LONG)
    expect(card(page).get_by_text("Tacks: none")).to_be_visible()
    card(page).get_by_role("button", name="Tack here").click()
    drag(page, place(page, 435, 262), place(page, 441, 262))
    expect(card(page).get_by_text("Tacks: 1")).to_be_visible()
    expect(card(page).get_by_text("changes 41 to 61")).to_be_visible()
    card(page).get_by_label("Fades over").fill("4")
    card(page).get_by_label("Fades over").press("Enter")
    expect(card(page).get_by_text("changes 47 to 53")).to_be_visible()
    card(page).get_by_role("button", name="Remove", exact=True).click()
    expect(card(page).get_by_text("Tacks: none")).to_be_visible()
    card(page).get_by_role("button", name="Remove drape").click()
    expect(page.get_by_role("navigation", name="Rack").get_by_text("skin 2")).to_be_hidden()


def test_proof__is_measured_and_tells_numbers(page: Page, server) -> None:
    opened(page, server)
    stage(page, "Proof").click()
    card(page).get_by_role("button", name=re.compile("^Measure frames")).click()
    expect(card(page).get_by_text("Outside the mattes every pixel is the source's")).to_be_visible(timeout=LONG)
    expect(card(page).get_by_text("Seam")).to_be_visible()


def test_hand_over__survives_a_killed_server_and_the_files_are_right(page: Page, server) -> None:
    opened(page, server)
    stage(page, "Hand over").click()
    card(page).get_by_label("Prefix").fill("ferry.")
    card(page).get_by_label("Prefix").press("Enter")
    card(page).get_by_role("button", name="Hand over").click()
    work = server.library / "deliveries" / "Pilot_at_the_rail_v1.in-work"
    soon(lambda: work.exists() and len(list(work.glob("*.png"))) > 5)
    server.kill()
    done = server.library / "deliveries" / "Pilot_at_the_rail_v1"
    assert work.exists()
    assert not done.exists()
    server.start()
    opened(page, server)
    stage(page, "Hand over").click()
    expect(card(page).get_by_text("100 files")).to_be_visible(timeout=LONG)
    names = sorted(p.name for p in done.iterdir())
    assert (names[0], names[-1], len(names)) == ("ferry.0000.png", "ferry.0099.png", 100)
    assert read_still(done / "ferry.0040.png").shape == (540, 960, 3)


def test_recipe__is_there_after_the_restart_and_undo_still_works(page: Page, server) -> None:
    opened(page, server)
    expect(page.get_by_role("navigation", name="Rack").get_by_text("spot 1")).to_be_visible()
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()


def test_bring_in__upload_a_clip_and_a_refused_one(page: Page, server, tmp_path: Path, movie_path: Path) -> None:
    opened(page, server)
    (tmp_path / "letter.mp4").write_text("no movie\n" * 20)
    page.keyboard.press("Control+o")
    files = page.get_by_label("Files to bring in")
    files.set_input_files(str(tmp_path / "letter.mp4"))
    expect(page.get_by_role("alert")).to_contain_text("letter.mp4")
    page.get_by_role("button", name="Close").first.click()
    page.keyboard.press("Control+o")
    page.get_by_label("Files to bring in").set_input_files(str(movie_path))
    expect(page.get_by_role("dialog").get_by_text("320 x 240")).to_be_visible()
    page.get_by_role("button", name="Bring in", exact=True).click()
    expect(page).to_have_url(re.compile(r"/shots/5$"))
    expect(card(page).get_by_text("0 to 15 (16)")).to_be_visible()
    assert list((server.library / "uploads").iterdir()) == []


def test_bring_in__pictures_are_asked_their_rate_and_gaps(page: Page, server, still_folder: Path) -> None:
    (still_folder / "plate.1003.png").unlink()
    opened(page, server)
    page.keyboard.press("Control+o")
    page.get_by_label("Files to bring in").set_input_files([str(p) for p in sorted(still_folder.iterdir())])
    expect(page.get_by_text("The numbering has gaps: 1003 missing.")).to_be_visible()
    page.get_by_role("radio", name="Hold the frame before").click()
    expect(page.get_by_role("button", name="Bring in", exact=True)).to_be_disabled()
    page.get_by_label("Frame rate").fill("30000/1001")
    page.get_by_label("Frame rate").press("Enter")
    page.get_by_role("button", name="Bring in", exact=True).click()
    expect(card(page).get_by_text("1001 to 1006 (6)")).to_be_visible()
    expect(card(page).get_by_text(re.compile("Frames 1003 are missing"))).to_be_visible()
    expect(page.get_by_label("Timecode")).to_have_text(re.compile(";"))


def test_palette_and_help__every_action_is_found(page: Page, server) -> None:
    opened(page, server)
    page.keyboard.press("Control+k")
    page.get_by_label("Search actions").fill("difference")
    page.keyboard.press("Enter")
    expect(page.get_by_role("radio", name="Difference")).to_have_attribute("aria-checked", "true")
    page.keyboard.press("?")
    expect(page.get_by_role("dialog").get_by_text("Take a spot off", exact=True)).to_be_visible()


def test_every_control_has_a_name(page: Page, server) -> None:
    opened(page, server)
    nameless = page.evaluate(
        """() => [...document.querySelectorAll('button, input, [role=slider], [role=radio], [role=switch]')]
            .filter(e => e.offsetParent && !(e.getAttribute('aria-label') || e.innerText?.trim() || e.labels?.length))
            .map(e => e.outerHTML.slice(0, 120))"""
    )
    assert nameless == []
