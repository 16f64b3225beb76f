"""A secret goes to the server it is meant for, encrypted if that is, and is told nowhere else."""

from __future__ import annotations

import base64
import os
import socket
import ssl
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar
from urllib.parse import quote, unquote

import pytest

import depth
from program import Program
from zembrel.errors import RemoteError
from zembrel.web import addresses
from zembrel.web.addresses import check_hop, is_local, is_public, public_places, without_login
from zembrel.web.asking import Asker, Manner, Request

KEY = "s3cret/77+Z@y"
AREA = "-24.05,45.95,-23.95,46.05@EPSG:4326"


class Mean(BaseHTTPRequestHandler):
    """A server that answers in every way that may make a program talkative; the way is in the address."""

    seen: ClassVar[list[tuple[str, dict[str, str]]]] = []

    def do_GET(self) -> None:
        type(self).seen.append((self.path, dict(self.headers)))
        way = self.path.split("/")[1]
        secret = unquote(self.path) + str(dict(self.headers))
        if way in ("echo", "error"):
            self._answer(200 if way == "echo" else 503, secret.encode(), "text/html")
        elif way == "denied":
            self._answer(403, secret.encode(), "application/json")
        elif way == "big":
            self._answer(200, bytes(3_000_000), "image/png")
        elif way == "round":
            self.send_response(302)
            self.send_header("Location", self.path)
            self.end_headers()
        elif way == "elsewhere":
            self.send_response(302)
            self.send_header("Location", f"http://localhost:{self.server.server_address[1]}{self.path}")
            self.end_headers()
        elif way == "cut":
            self.send_response(200)
            self.send_header("Content-Length", "1000")
            self.end_headers()
            self.wfile.write(b"half")
            self.close_connection = True
        else:
            self._answer(200, b"\x89PNG no picture at all", "image/png")

    def _answer(self, status: int, data: bytes, kind: str) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, *_: object) -> None: ...


@pytest.fixture
def mean() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Mean)
    server.handle_error = lambda *_: None  # type: ignore[method-assign]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    Mean.seen.clear()
    yield f"127.0.0.1:{server.server_address[1]}"
    server.shutdown()


def forms(secret: str) -> set[bytes]:
    """A secret as others may write it."""
    plain = secret.encode()
    return {
        plain,
        quote(secret).encode(),
        quote(secret, safe="").encode(),
        base64.b64encode(plain),
        repr(secret)[1:-1].encode(),
    }


def everything(program: Program, said: list[Any]) -> bytes:
    """All that a person could read afterwards."""
    folders = (program.folder, Path(os.environ["ZEMBREL_CACHE"]))
    files = [path for folder in folders for path in folder.rglob("*") if path.is_file()]
    reports = [
        path
        for one in said
        for word in one.err.split()
        if (path := Path(word)).name.startswith("zembrel-report-")
    ]
    return (
        b"\n".join(path.read_bytes() for path in [*files, *reports])
        + "".join(one.out + one.err for one in said).encode()
    )


WAYS = ("echo", "error", "denied", "big", "round", "elsewhere", "cut", "junk")


PLACES = ("path", "query", "header", "login", "LOGIN")
PAIRS = [(way, where) for way in WAYS for where in PLACES]


@pytest.mark.parametrize(("way", "where"), depth.some(PAIRS, PAIRS[::6]))
def test_a_secret_is_in_nothing_that_can_be_read(
    program: Program, mean: str, monkeypatch: pytest.MonkeyPatch, way: str, where: str
) -> None:
    monkeypatch.setenv("MARROW_KEY", KEY)
    spelled = {"path": "/{key}", "query": "/x?key={key}"}.get(where, "/x")
    login = f"anna:{quote(KEY, safe='@')}@" if "login" in where.lower() else ""
    scheme = "HTTP" if where == "LOGIN" else "http"
    address = f"{scheme}://{login}{mean}/{way}{spelled.replace('?', '/{z}/{x}/{y}?') if '?' in spelled else spelled + '/{z}/{x}/{y}'}"
    sets = ["private=true", "zooms=0-9", "tries=1", "most=1MB", "hosts=localhost"]
    sets += ["key=$MARROW_KEY"] if where in ("path", "query") else []
    sets += ["headers.X-Api-Key=$MARROW_KEY"] if where == "header" else []
    words = [word for one in sets for word in ("--set", one)]
    if not login:  # what is typed into a source file stands there
        program("source", "add", "s", address, "--kind", "xyz", *words)
    else:
        (program.folder.parent / f"{program.folder.name}-sources").mkdir()
        text = (
            f'kind = "xyz"\naddress = "{address}"\nprivate = true\nzooms = "0-9"\ntries = 1\nmost = "1MB"\n'
        )
        (program.folder.parent / f"{program.folder.name}-sources/s.source.toml").write_text(text)
    name = "s" if not login else str(program.folder.parent / f"{program.folder.name}-sources/s.source.toml")
    fetch = ("fetch", name, "--within", AREA, "--out", "o.tif")
    said = [program(*fetch, *more, code=None) for more in ((), ("--json",), ("--verbose", "--workers", "1"))]
    assert Mean.seen and all(one.code in (3, 6, 7) for one in said), [one.err for one in said]
    read = everything(program, said)
    assert not [form for form in forms(KEY) if form in read]
    assert KEY.encode() not in read and b"anna:" not in read


@pytest.mark.parametrize("value", ["two\nlines", " blank", "blank ", "gr\u00fcn", "bell\a", "\udce4"])
@pytest.mark.parametrize("where", ["header", "path"])
def test_a_key_that_no_request_can_carry_is_told_by_its_name(
    program: Program, mean: str, monkeypatch: pytest.MonkeyPatch, value: str, where: str
) -> None:
    monkeypatch.setenv("MARROW_KEY", value)
    more = ("--set", "headers.X-Api-Key=$MARROW_KEY") if where == "header" else ("--set", "key=$MARROW_KEY")
    path = "/x/{z}/{x}/{y}" if where == "header" else "/{key}/{z}/{x}/{y}"
    program(
        "source",
        "add",
        "s",
        f"http://{mean}{path}",
        "--kind",
        "xyz",
        "--set",
        "private=true",
        "--set",
        "zooms=0-9",
        *more,
    )
    error = program.refuses(2, "fetch", "s", "--within", AREA, "--out", "o.tif")
    assert "MARROW_KEY" in error[0] and value.strip() not in " ".join(error) and not Mean.seen


def test_headers_go_to_the_server_they_are_meant_for_alone(
    program: Program, mean: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("MARROW_KEY", KEY)
    port = mean.partition(":")[2]
    other = f"localhost:{port}"
    program("source", "add", "s", f"http://{mean}/elsewhere/{{z}}/{{x}}/{{y}}", "--kind", "xyz", "--set", "private=true",
            "--set", "zooms=0-9", "--set", "tries=1", "--set", f"hosts={other}", "--set", "headers.X-Api-Key=$MARROW_KEY")  # fmt: skip
    program("fetch", "s", "--within", AREA, "--out", "o.tif", code=6)
    assert {one["Host"] for _, one in Mean.seen} == {mean, other}
    assert all(("X-Api-Key" in one) == (one["Host"] == mean) for _, one in Mean.seen)


@pytest.mark.parametrize(
    ("address", "target", "refused"),
    [
        ("https://8.8.8.8/a", "http://8.8.8.8/a", True), ("https://8.8.8.8/a", "https://8.8.8.8/b", False),
        ("http://8.8.8.8/a", "https://8.8.8.8/a", False), ("http://8.8.8.8/a", "http://127.0.0.1/", True),
        ("http://8.8.8.8/a", "http://localhost./", True), ("http://8.8.8.8/a", "file:///etc/passwd", True),
    ],
)  # fmt: skip
def test_no_redirect_leads_out_of_encryption_or_into_a_private_network(
    address: str, target: str, refused: bool
) -> None:
    if refused:
        with pytest.raises(RemoteError):
            check_hop(address, target, "it")
    else:
        check_hop(address, target, "it")


@pytest.mark.parametrize("ip", [
    "127.0.0.1", "10.1.2.3", "169.254.1.1", "100.64.0.1", "224.0.0.1", "0.0.0.0", "::1", "::", "fe80::1", "fc00::1", "fec0::1", "ff02::1",
    "::127.0.0.1", "::ffff:127.0.0.1", "::ffff:10.0.0.1", "2002:7f00:1::", "2002:a00:1::1", "64:ff9b::7f00:1", "64:ff9b::a00:1",
    "64:ff9b:1::1", "2001:0:7f00:1::1",
])  # fmt: skip
def test_every_spelling_of_a_private_machine_is_one(ip: str) -> None:
    assert not is_public(ip)


def test_public_machines_are_public() -> None:
    for ip in ("8.8.8.8", "2001:4860:4860::8888", "::ffff:8.8.8.8", "64:ff9b::808:808", "2002:808:808::1"):
        assert is_public(ip), ip
    assert all(map(is_local, ("localhost", "localhost.", "LOCALHOST", "a.localhost."))) and not is_local(
        "localhost.example"
    )


def test_the_machine_that_was_checked_is_the_one_that_is_asked(
    mean: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A name that leads to a public address when it is checked, and to this machine when it is asked."""
    port, answers = int(mean.split(":")[1]), iter(("8.8.8.8", "127.0.0.1", "127.0.0.1", "127.0.0.1"))
    look = socket.getaddrinfo

    def rebound(host: str, *more: Any, **others: Any) -> Any:
        return look(next(answers) if host == "rebind.example" else host, *more, **others)

    monkeypatch.setattr(addresses.socket, "getaddrinfo", rebound)
    for name in ("http_proxy", "HTTP_PROXY", "https_proxy", "HTTPS_PROXY", "all_proxy", "ALL_PROXY"):
        monkeypatch.delenv(name, raising=False)
    addresses._is_private.cache_clear()
    asker = Asker(Manner(private=False, hosts=None, tries=1, seconds=2.0))
    with pytest.raises(RemoteError, match="cannot be read") as caught:
        asker.ask(Request.of(f"http://rebind.example:{port}/junk"))
    assert "private network" in caught.value.why and not Mean.seen
    with pytest.raises(OSError, match="private"):
        public_places("localhost.", 80)


def test_logins_are_taken_out_of_every_spelling_of_an_address() -> None:
    for address in (
        "http://anna:pa@ss@h/x",
        "http://anna:pa/ss@h/x",
        "http://anna:p?a#ss@h/x",
        "HTTP://anna:pa@ss@h/x",
        "https://anna@h/x",
        "hTTps://:pa@h/x",
    ):
        assert without_login(address).lower() in ("http://h/x", "https://h/x")
    assert (
        without_login("http://h/a@b") == "http://h/a@b"
        and without_login("http://[::1]/a@b") == "http://[::1]/a@b"
    )


def test_an_address_that_cannot_be_read_is_told_without_its_login(program: Program) -> None:
    for words in (("describe", "http://anna:pa/ss9@h/x.tif"), ("describe", "http://h:port9/x.tif")):
        said = program(*words, code=2)
        assert "is no address" in said.err and "ss9" not in said.err and "anna" not in said.err


@pytest.mark.parametrize("umask", [0o000, 0o077])
def test_what_servers_gave_is_private_to_its_user(
    program: Program, mean: str, umask: int, tmp_path: Path
) -> None:
    from zembrel.web.cache import Kept, WebCache

    before = os.umask(umask)
    try:
        cache = WebCache(tmp_path / "kept")
        cache.put("s", "k", Kept(0.0, 200, "", None, bytes(100_000)))
        place = cache.place("big.bin")
        place.write_bytes(b"x")
        cache.put_file("s", "f", Kept(0.0, 200, "", None, b"", place))
        (tmp_path / "kept").chmod(0o755)
        assert WebCache(tmp_path / "kept").get("s", "k") is not None
    finally:
        os.umask(before)
    for path in [tmp_path / "kept", *(tmp_path / "kept").rglob("*")]:
        assert path.stat().st_mode & 0o777 == (0o700 if path.is_dir() else 0o600), path


def test_the_context_of_encryption_is_the_usual_one() -> None:
    """Connecting to checked addresses leaves certificates checked by the name."""
    from zembrel.web.connecting import public_transport

    pool = public_transport(__import__("httpx").Limits())._pool
    assert pool._ssl_context.check_hostname and pool._ssl_context.verify_mode == ssl.CERT_REQUIRED
