"""A browser without a window, driven over its debugging pipe."""

from __future__ import annotations

import base64
import json
import os
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

PROGRAM = shutil.which("chromium") or shutil.which("chromium-browser")


class Browser:
    """One page of Chromium. Use as a context; skips the test, saying why, where there is none."""

    def __init__(self, folder: Path, width: int = 1280, height: int = 800) -> None:
        if PROGRAM is None:
            pytest.skip("Debian's package chromium is missing; .ci/run installs it")
        self._folder, self._size, self._last = folder, f"{width},{height}", 0
        self._session = ""

    def __enter__(self) -> Browser:
        theirs_in, self._write = os.pipe()
        self._read, theirs_out = os.pipe()

        def arrange() -> None:
            os.dup2(theirs_in, 3)
            os.dup2(theirs_out, 4)

        assert PROGRAM is not None
        self._process = subprocess.Popen(
            [PROGRAM, "--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--remote-debugging-pipe",
             f"--window-size={self._size}", f"--user-data-dir={self._folder / 'browser'}", "about:blank"],
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            close_fds=False, preexec_fn=arrange,
        )  # fmt: skip
        os.close(theirs_in), os.close(theirs_out)
        pages = self("Target.getTargets")["targetInfos"]
        page = next(target["targetId"] for target in pages if target["type"] == "page")
        self._session = self("Target.attachToTarget", targetId=page, flatten=True)["sessionId"]
        return self

    def __exit__(self, *_: object) -> None:
        self._process.kill()
        self._process.wait()
        os.close(self._write), os.close(self._read)

    def __call__(self, method: str, **parameters: Any) -> Any:
        """What a command of the debugging protocol gives back."""
        self._last += 1
        order: dict[str, Any] = {"id": self._last, "method": method, "params": parameters}
        if self._session:
            order["sessionId"] = self._session
        os.write(self._write, json.dumps(order).encode() + b"\0")
        while True:
            said = json.loads(self._message())
            if said.get("id") == self._last:
                assert "error" not in said, said
                return said["result"]

    def _message(self) -> bytes:
        held = b""
        while not held.endswith(b"\0"):
            held += os.read(self._read, 1)
        return held[:-1]

    def open(self, path: Path) -> None:
        self("Page.navigate", url=path.as_uri())
        while self.value("document.readyState") != "complete":
            pass

    def value(self, script: str) -> Any:
        """What a line of script gives on the page."""
        made = self("Runtime.evaluate", expression=script, returnByValue=True)
        assert "exceptionDetails" not in made, made
        return made["result"].get("value")

    def click(self, name: str) -> None:
        self.value(f"document.getElementById('{name}').click()")

    def press(self, key: str) -> None:
        for kind in ("keyDown", "keyUp"):
            self("Input.dispatchKeyEvent", type=kind, key=key, text=key if len(key) == 1 else "")

    def drag(self, start: tuple[float, float], end: tuple[float, float]) -> None:
        held = {"button": "left", "clickCount": 1}
        self("Input.dispatchMouseEvent", type="mousePressed", x=start[0], y=start[1], buttons=1, **held)
        self("Input.dispatchMouseEvent", type="mouseMoved", x=end[0], y=end[1], button="left", buttons=1)
        self("Input.dispatchMouseEvent", type="mouseReleased", x=end[0], y=end[1], buttons=0, **held)

    def picture(self) -> bytes:
        """The page as a PNG."""
        return base64.b64decode(self("Page.captureScreenshot")["data"])
