"""Check (or, with --write, make) what is generated: the recipe's JSON Schema and the front end's API types."""

import json
import subprocess
import sys
import tempfile
from pathlib import Path

from gentle_veil.domain.recipe import recipe_schema
from gentle_veil.wiring import Config, create

ROOT = Path(__file__).resolve().parent.parent
SCHEMA = ROOT / "docs" / "recipe.schema.json"
OPENAPI = ROOT / "web" / "src" / "api" / "openapi.json"


def openapi_text() -> str:
    with tempfile.TemporaryDirectory() as scratch:
        app, _ = create(Config(library=Path(scratch)))
        return json.dumps(app.api_doc, indent=1, sort_keys=True, default=str) + "\n"


def main() -> int:
    texts = {SCHEMA: json.dumps(recipe_schema(), indent=1) + "\n", OPENAPI: openapi_text()}
    stale = [path for path, text in texts.items() if not path.exists() or path.read_text() != text]
    if "--write" in sys.argv:
        for path, text in texts.items():
            path.parent.mkdir(exist_ok=True)
            path.write_text(text)
        subprocess.run(["npm", "run", "-s", "api-types"], cwd=ROOT / "web", check=True)
        return 0
    for path in stale:
        print(f"{path.relative_to(ROOT)} is stale; run scripts/check_generated.py --write", file=sys.stderr)
    if not stale:
        types = ROOT / "web" / "src" / "api" / "schema.d.ts"
        with tempfile.TemporaryDirectory() as scratch:
            made = Path(scratch) / "schema.d.ts"
            command = [
                "npx",
                "--no-install",
                "openapi-typescript",
                str(OPENAPI),
                "--default-non-nullable=false",
            ]
            subprocess.run([*command, "-o", str(made)], cwd=ROOT / "web", check=True, capture_output=True)
            if made.read_text() != types.read_text():
                print(
                    "web/src/api/schema.d.ts is stale; run scripts/check_generated.py --write",
                    file=sys.stderr,
                )
                return 1
    return 1 if stale else 0


if __name__ == "__main__":
    sys.exit(main())
