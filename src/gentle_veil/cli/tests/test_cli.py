"""The command line as a user's script meets it: exit codes, output, plain faults."""

import json
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import MARK, Studio, spot_recipe

from gentle_veil.cli import main as cli


def call(*words: object) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-c", "from gentle_veil.cli.main import main; main()", *map(str, words)]
    return subprocess.run(command, capture_output=True, text=True, timeout=300, check=False)


@pytest.fixture(scope="module")
def recipe(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("recipe") / "recipe.json"
    path.write_text(json.dumps(spot_recipe()))
    return path


def test_run_and_carry__from_a_shell(recipe: Path, movie_path: Path, tmp_path: Path) -> None:
    ran = call("run", recipe, "--media", movie_path, "--out", tmp_path / "out", "--frames", "0-5")
    assert ran.returncode == 0, ran.stderr
    assert ran.stdout.startswith("pass: frames 0-5")
    (tmp_path / "points.csv").write_text(f"id,x,y\nmark,{MARK[0]},{MARK[1]}\n")
    track = tmp_path / "out" / "tracks" / "skin.npz"
    carried = call("carry", track, "--points", tmp_path / "points.csv", "--out", tmp_path / "carried.csv")
    assert carried.returncode == 0, carried.stderr
    assert len((tmp_path / "carried.csv").read_text().splitlines()) == 7


def said(capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, *words: object) -> tuple[int, str, str]:
    monkeypatch.setattr(sys, "argv", ["gentle-veil", *map(str, words)])
    code = 0
    try:
        cli.main()
    except SystemExit as end:
        code = int(end.code or 0)
    captured = capsys.readouterr()
    return code, captured.out, captured.err


def test_probe__prints_json(capsys, monkeypatch, movie_path: Path) -> None:
    code, out, _ = said(capsys, monkeypatch, "probe", movie_path)
    assert code == 0
    assert json.loads(out)["frame_count"] == 16


def test_export_recipe__prints_and_writes(capsys, monkeypatch, studio: Studio, tmp_path: Path) -> None:
    studio.shot().edit(spot_recipe())
    _, out, _ = said(capsys, monkeypatch, "export-recipe", studio.id, "--library", studio.root)
    assert json.loads(out)["veils"][0]["name"] == "spot"
    said(capsys, monkeypatch, "export-recipe", studio.id, "--library", studio.root, "--out", tmp_path / "r.json")
    assert json.loads((tmp_path / "r.json").read_text()) == json.loads(out)


def test_schema__is_json(capsys, monkeypatch) -> None:
    assert json.loads(said(capsys, monkeypatch, "schema")[1])["title"].startswith("Gentle Veil recipe")


def test_faults__all_listed_with_their_path_and_exit_two(capsys, monkeypatch, movie_path: Path, tmp_path: Path) -> None:
    bad = spot_recipe()
    bad["veils"][0] |= {"drape": "cloth", "kind": "sparkle"}
    (tmp_path / "bad.json").write_text(json.dumps(bad))
    code, _, err = said(
        capsys, monkeypatch, "run", tmp_path / "bad.json", "--media", movie_path, "--out", tmp_path / "o"
    )
    assert code == 2
    assert "veils[0].drape" in err
    assert "veils[0].kind" in err
    assert not (tmp_path / "o").exists()


@pytest.mark.parametrize("content", [None, "{", "[]"])
def test_run__no_recipe__one_sentence(
    capsys, monkeypatch, movie_path: Path, tmp_path: Path, content: str | None
) -> None:
    path = tmp_path / "recipe.json"
    if content is not None:
        path.write_text(content)
    code, _, err = said(capsys, monkeypatch, "run", path, "--media", movie_path, "--out", tmp_path / "o")
    assert code == 2
    assert "Traceback" not in err


def test_words_that_are_off__exit_two_without_a_traceback(capsys, monkeypatch, tmp_path: Path) -> None:
    for words in (["run"], ["dance"], ["probe", tmp_path / "none.mp4"], ["serve", "--port", "x"]):
        code, _, err = said(capsys, monkeypatch, *words)
        assert code == 2, words
        assert err.strip()


def test_serve__port_taken__says_so(capsys, monkeypatch, tmp_path: Path) -> None:
    import socket

    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        code, _, err = said(capsys, monkeypatch, "serve", "--library", tmp_path / "lib", "--port", port)
    assert code == 2
    assert "taken" in err
