"""Who may ask: this machine's browser, on our own page; anyone else needs the access key."""

import hmac
from urllib.parse import urlsplit

from flask import Flask, Response, abort, redirect, request

COOKIE = "gentle_veil_key"
LOOPBACK = ("127.0.0.1", "localhost", "[::1]")


def add_guard(app: Flask, *, access_key: str | None) -> None:
    """Refuse foreign Host and Origin headers; with an access key, refuse everyone who does not know it."""

    @app.before_request
    def _check() -> Response | None:
        name = request.host.rsplit(":", 1)[0] if ":" in request.host.rsplit("]", 1)[-1] else request.host
        if access_key is None and name not in LOOPBACK:
            abort(403, "This server answers only to addresses of this machine; open it as http://127.0.0.1.")
        origin = request.headers.get("Origin")
        if origin and request.method not in ("GET", "HEAD") and urlsplit(origin).netloc != request.host:
            abort(403, "This request came from another page; use Gentle Veil's own.")
        if access_key is None:
            return None
        given = request.args.get("key") or request.cookies.get(COOKIE, "")
        if not hmac.compare_digest(given.encode(), access_key.encode()):
            abort(401, "This address needs the access key that was printed when the server started.")
        if "key" in request.args and request.method == "GET" and not request.path.startswith("/api/"):
            reply = redirect(request.path)
            reply.set_cookie(COOKIE, access_key, httponly=True, samesite="Strict")
            return reply  # type: ignore[return-value]
        return None
