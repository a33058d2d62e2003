"""Make docs/screenshots anew from a fresh demo library: one picture of each main view, at 1280x800."""

import re
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "tests" / "browser")]
OUT = ROOT / "docs" / "screenshots"


def main() -> None:
    from serving import CHROMIUM, FLAGS, Server
    from test_story import SPOT, card, drag, go_to, look, place, stage

    def keep(page: Page, name: str) -> None:
        page.mouse.move(640, 640)
        page.wait_for_timeout(900)
        page.screenshot(path=str(OUT / f"{name}.png"))

    with tempfile.TemporaryDirectory() as folder, sync_playwright() as play:
        server = Server(Path(folder) / "library")
        server.start()
        try:
            browser = play.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.set_default_timeout(60_000)
            page.goto(server.url)
            page.get_by_text("light like the rest").first.wait_for()
            go_to(page, 40)
            keep(page, "shot")
            page.get_by_role("button", name="Take a spot off").click()
            drag(page, place(page, *SPOT), place(page, SPOT[0] + 13, SPOT[1]))
            card(page).get_by_text("px away").wait_for()
            page.get_by_role("button", name="Jobs: 0 running").wait_for()
            go_to(page, 52)
            keep(page, "veil")
            card(page).get_by_role("button", name="Read them").click()
            card(page).get_by_label("Grain over the shot").wait_for()
            card(page).get_by_label("Grain over the shot").scroll_into_view_if_needed()
            keep(page, "belonging")
            page.get_by_role("navigation", name="Rack").get_by_role("button", name="skin 1").click()
            keep(page, "drape")
            card(page).get_by_text("100 frames followed").wait_for()
            card(page).get_by_role("button", name="Tack here").click()
            drag(page, place(page, 470, 150), place(page, 471, 148))
            card(page).get_by_text("Tacks: 1").wait_for()
            page.wait_for_timeout(1500)
            page.get_by_role("button", name="Jobs: 0 running").wait_for()
            keep(page, "correct")
            page.get_by_role("button", name="Undo").click()
            card(page).get_by_text("Tacks: none").wait_for()
            card(page).get_by_role("radio", name="checker", exact=True).click()
            card(page).get_by_role("button", name="Residual").click()
            card(page).get_by_role("button", name="Measure").click()
            card(page).get_by_text("Way back: off by").wait_for()
            keep(page, "checks")
            card(page).get_by_role("button", name="Residual").click()
            card(page).get_by_role("radio", name="grid", exact=True).click()
            painted(page, keep)
            page.get_by_role("navigation", name="Rack").get_by_role("button", name="spot 1 conceal").click()
            stage(page, "Proof").click()
            card(page).get_by_role("button", name="Measure frames").click()
            card(page).get_by_text("bit for bit").wait_for()
            keep(page, "proof")
            look(page, "Wipe")
            page.keyboard.press("v")
            page.wait_for_timeout(400)
            x, y = place(page, 492, 130)
            page.mouse.move(x, y)
            for _ in range(6):
                page.mouse.wheel(0, -120)
                page.wait_for_timeout(60)
            page.keyboard.press("Shift+H")
            keep(page, "wipe")
            page.keyboard.press("Shift+H")
            page.keyboard.press("v")
            look(page, "Result")
            stage(page, "Hand over").click()
            card(page).get_by_role("button", name="Hand over").click()
            card(page).get_by_text("100 files").wait_for()
            keep(page, "hand-over")
            page.keyboard.press("Control+o")
            page.get_by_role("dialog").wait_for()
            keep(page, "bring-in")
            page.keyboard.press("Escape")
            page.keyboard.press("?")
            keep(page, "help")
            page.keyboard.press("Escape")
            by_points(page, keep)
            browser.close()
        finally:
            server.kill()
        finished_shots(play, keep)


def painted(page, keep) -> None:  # type: ignore[no-untyped-def]
    """A few strokes on the flat view, and back again."""
    from test_story import card, go_to

    go_to(page, 52)
    page.get_by_role("button", name="Add a veil").click()
    page.get_by_role("menuitem", name=re.compile("^Paint")).click()
    card(page).get_by_text("Strokes: none").wait_for()
    page.get_by_role("button", name="Jobs: 0 running").wait_for()
    box = page.get_by_test_id("view-Flat view").bounding_box()
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    card(page).get_by_label("Brush tool").select_option("colour")
    card(page).get_by_role("radio", name="tone only").click()
    card(page).get_by_label("Brush colour").fill("#a03040")
    card(page).get_by_label("Radius", exact=True).fill("5")
    card(page).get_by_label("Radius", exact=True).press("Enter")
    card(page).get_by_role("button", name="Take the brush").click()
    for i, points in enumerate((((-40, 30), (0, 48), (40, 30)), ((-30, 44), (0, 60), (30, 44)))):
        with page.expect_response(lambda r: "/preview" in r.url):
            page.mouse.move(x + points[0][0], y + points[0][1])
            page.mouse.down()
            for dx, dy in points[1:]:
                page.mouse.move(x + dx, y + dy, steps=8)
        page.mouse.up()
        card(page).get_by_text(f"Strokes: {i + 1}").wait_for()
        page.get_by_role("button", name="Jobs: 0 running").wait_for()
    page.wait_for_timeout(1500)
    keep(page, "paint")
    page.keyboard.press("Escape")
    card(page).get_by_role("button", name="Remove veil").click()
    page.get_by_role("navigation", name="Rack").get_by_text("paint 1").wait_for(state="hidden")


def finished_shots(play, keep) -> None:  # type: ignore[no-untyped-def]
    """The demo as ./run opens it: every shot with its recipe, followed and composed."""
    from serving import CHROMIUM, FLAGS, Server
    from test_story import card, go_to, stage

    with tempfile.TemporaryDirectory() as folder:
        server = Server(Path(folder) / "library", finished=True)
        server.start()
        try:
            browser = play.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.set_default_timeout(300_000)
            page.goto(server.url)
            rack = page.get_by_role("navigation", name="Rack")
            page.get_by_role("button", name=re.compile("Jobs: (none|0 running)")).wait_for()

            def open_shot(name: str, veil: str, frame: int) -> None:
                page.get_by_role("banner").get_by_role("button", name=re.compile("The Lantern Ferry")).click()
                page.get_by_role("menuitem", name=name).click()
                rack.get_by_role("button", name=re.compile(f"^{veil} ")).first.click()
                go_to(page, frame)
                page.get_by_role("button", name=re.compile("Jobs: (none|0 running)")).wait_for()
                shown = page.get_by_test_id("picture-Shot view")
                expect(shown).to_have_attribute(
                    "data-shown", re.compile(rf"/{frame}\.png.*look=result"), timeout=60_000
                )
                page.wait_for_timeout(4000)

            open_shot("Deckhand's arm", "compass off", 26)
            keep(page, "plate")
            open_shot("Harbour shirt", "emblem", 23)
            keep(page, "apply")
            open_shot("On the quay", "passers-by", 44)
            keep(page, "obscure")
            stage(page, "Proof").click()
            card(page).get_by_role("button", name=re.compile("^Measure frames")).click()
            card(page).get_by_text("covered whole on all").wait_for()
            keep(page, "coverage")
        finally:
            server.kill()


def by_points(page, keep) -> None:  # type: ignore[no-untyped-def]
    """A tattoo followed by points, denser where it is finest, late in the shot."""
    from test_story import LONG, card, go_to, place
    from test_surfaces import outline
    from test_veil_kinds import settled, shot

    shot(page, "Deckhand")
    go_to(page, 20)
    page.get_by_role("button", name="Draw a drape").click()
    outline(page, (340, 250), (540, 250), (540, 400), (340, 400))
    card(page).get_by_role("radio", name="Points", exact=True).click()
    card(page).get_by_role("button", name="Place points").click()
    card(page).get_by_role("radio", name="denser around").click()
    page.mouse.click(*place(page, 430, 345))
    card(page).get_by_text("denser around 1").wait_for()
    page.keyboard.press("Escape")
    card(page).get_by_role("button", name="Follow all frames").click()
    card(page).get_by_text("100 frames followed").wait_for(timeout=LONG)
    settled(page)
    go_to(page, 64)
    page.get_by_role("group", name="Shot view").get_by_role("button", name="1:1").click()
    card(page).get_by_role("button", name="Place points").scroll_into_view_if_needed()
    keep(page, "points")


if __name__ == "__main__":
    main()
