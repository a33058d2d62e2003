"""The kinds of veil in Chromium: artwork placed by hand, faces found and hidden, smoothing, order and keys."""

import re
from pathlib import Path

import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, expect
from test_story import LONG, card, drag, go_to, opened, place, stage

from gentle_veil.core.composite.blend import BLEND_MODES, blend

pytestmark = pytest.mark.browser


@pytest.fixture(autouse=True)
def _patient(page: Page) -> None:
    page.set_default_timeout(20_000)


def shot(page: Page, name: str) -> None:
    page.get_by_role("banner").get_by_role("button", name=re.compile("The Lantern Ferry")).click()
    page.get_by_role("menuitem", name=name).click()


def add(page: Page, label: str) -> None:
    page.get_by_role("button", name="Add a veil").click()
    page.get_by_role("menuitem", name=re.compile(f"^{label}")).click()


def settled(page: Page) -> None:
    expect(page.get_by_role("button", name=re.compile("Jobs: (none|0 running)"))).to_be_visible(timeout=LONG)


def test_artwork__is_brought_in_and_dragged_by_a_corner(page: Page, server, tmp_path: Path) -> None:
    picture = np.zeros((60, 80, 4), np.uint8)
    picture[10:50, 10:70] = (30, 30, 210, 255)
    cv2.imwrite(str(tmp_path / "red patch.png"), picture)
    opened(page, server)
    go_to(page, 40)
    page.get_by_role("button", name="Draw a drape").click()
    for x, y in ((400, 220), (470, 225), (465, 310), (405, 305)):
        page.mouse.click(*place(page, x, y))
    page.keyboard.press("Enter")
    expect(card(page).get_by_text("Outline: 4 points")).to_be_visible()
    go_to(page, 44)
    card(page).get_by_role("button", name="To here").click()
    expect(card(page).get_by_text("frames followed")).to_be_visible(timeout=LONG)
    settled(page)
    add(page, "Apply artwork")
    expect(card(page).get_by_role("heading", name="Artwork", exact=True).first).to_be_visible()
    page.get_by_label("Artwork files").set_input_files(str(tmp_path / "red patch.png"))
    expect(card(page).get_by_role("radio", name="red patch")).to_have_attribute("aria-checked", "true")
    settled(page)
    go_to(page, 40)
    drag(page, place(page, 435, 265), place(page, 441, 262))
    across = card(page).get_by_label("Across", exact=True)
    expect(across).not_to_have_value("0")
    card(page).get_by_role("button", name="Key Turn").click()
    expect(card(page).get_by_text("this frame, keyed")).to_be_visible()
    go_to(page, 44)
    card(page).get_by_label("Turn", exact=True).fill("20")
    card(page).get_by_label("Turn", exact=True).press("Enter")
    go_to(page, 42)
    expect(card(page).get_by_label("Turn", exact=True)).to_have_value("10")
    rack = page.get_by_role("navigation", name="Rack")
    card(page).get_by_role("button", name="Remove veil").click()
    expect(rack.get_by_text("artwork 1")).to_be_hidden()
    drape = page.get_by_label("Name", exact=True).input_value()
    card(page).get_by_role("button", name="Remove drape").click()
    expect(rack.get_by_text(drape, exact=True)).to_be_hidden()


def test_faces__are_found_hidden_and_proved(page: Page, server) -> None:
    opened(page, server)
    shot(page, "On the quay")
    expect(page.get_by_role("button", name="Add a veil")).to_be_visible()
    go_to(page, 48)
    page.keyboard.press("o")
    go_to(page, 44)
    page.keyboard.press("i")
    add(page, "Obscure faces")
    expect(card(page).get_by_text("face 2")).to_be_visible(timeout=LONG)
    expect(card(page).get_by_text("● hidden")).to_have_count(2)
    settled(page)
    card(page).get_by_role("radio", name="All but chosen").click()
    card(page).get_by_role("button", name="Choose face 1").click()
    expect(card(page).get_by_text("● hidden")).to_have_count(1)
    settled(page)
    stage(page, "Proof").click()
    card(page).get_by_role("button", name=re.compile("^Measure frames")).click()
    expect(card(page).get_by_text("covered whole on all")).to_be_visible(timeout=LONG)


def test_order__by_keyboard_and_seen_alone(page: Page, server) -> None:
    opened(page, server)
    shot(page, "Harbour shirt")
    for _ in range(2):
        add(page, "Smooth skin")
        expect(card(page).get_by_text("Tolerance")).to_be_visible()
    rack = page.get_by_role("navigation", name="Rack")
    second = rack.get_by_role("button", name=re.compile("^smooth 2"))
    second.first.focus()
    page.keyboard.press("Alt+ArrowUp")
    expect(rack.get_by_role("button", name=re.compile("^smooth [12] smooth$")).first).to_have_text(
        re.compile("smooth 2")
    )
    rack.get_by_role("button", name="smooth 1 alone").click()
    expect(rack.get_by_role("button", name="smooth 1 alone")).to_have_attribute("aria-pressed", "true")
    rack.get_by_role("button", name="smooth 1 alone").click()
    for name in ("smooth 2", "smooth 1"):
        rack.get_by_role("button", name=re.compile(f"^{name} smooth")).click()
        card(page).get_by_role("button", name="Remove veil").click()
        expect(rack.get_by_text(name)).to_be_hidden()


@pytest.mark.published
def test_blend_modes__as_chromiums_canvas_has_them(page: Page) -> None:
    """W3C Compositing and Blending as Chromium implements it, in 8 bit sRGB: within its own rounding."""
    rng = np.random.default_rng(12)
    below, above = rng.integers(0, 256, (2, 24, 3))
    script = """([mode, below, above]) => below.map((b, i) => {
        const c = document.createElement("canvas"); c.width = c.height = 1;
        const x = c.getContext("2d", { willReadFrequently: true });
        x.fillStyle = `rgb(${b.join(",")})`; x.fillRect(0, 0, 1, 1);
        x.globalCompositeOperation = mode;
        x.fillStyle = `rgb(${above[i].join(",")})`; x.fillRect(0, 0, 1, 1);
        return [...x.getImageData(0, 0, 1, 1).data].slice(0, 3);
    })"""
    for mode in BLEND_MODES:
        name = "source-over" if mode == "normal" else mode
        theirs = np.array(page.evaluate(script, [name, below.tolist(), above.tolist()]))
        ours = 255 * blend(mode, below / 255, above / 255)
        assert np.abs(ours - theirs).max() <= 2.0, mode
