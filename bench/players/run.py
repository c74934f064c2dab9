"""How long the page takes to check a player's folder: python bench/players/run.py [FILES] [MIB EACH]

500 files of 4 MiB, all of which the server needs, in a real Chromium (it and chromedriver must be installed, and
selenium): over http on this machine's loopback, where browsers offer ``crypto.subtle``, and on another address of it,
where they do not and the page hashes with WebAssembly. The floor is ``openssl dgst`` on the same files, two at once.
"""

import hashlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from importlib import resources
from pathlib import Path
from typing import Any

from rhizon.adapters.host import local_addresses
from rhizon.adapters.serve import serving
from rhizon.app.share.players_need import page_texts
from rhizon.core.kit.page import PageParts, page_html
from rhizon.core.model.documents import decode
from rhizon.core.model.kit import KitManifest

SCRIPTS = ("judge.js", "app.js", "worker.js", "sha256.js")


def folder_of(room: Path, count: int, mib: int) -> tuple[Path, list[dict[str, Any]]]:
    """A player's folder with random files, and the pieces that they are."""
    mods = room / "Tarnholt/mods"
    mods.mkdir(parents=True)
    pieces = []
    for number in range(count):
        data = os.urandom(mib << 20)
        path = f"mods/piece-{number}-1.0.jar"
        (mods / path.partition("/")[2]).write_bytes(data)
        file = {"path": path, "sha256": hashlib.sha256(data).hexdigest(), "size": len(data)}
        about = {"id": f"piece-{number}", "version": "1.0", "title": f"Piece {number}", "kind": "mod"}
        pieces.append({**about, "place": path, "files": [file]})
    return mods.parent, pieces


def page_of(target: Path, pieces: list[dict[str, Any]]) -> None:
    """The page for a server that needs these."""
    document = {
        "format": "rhizon-kit/1",
        "server": "marsh",
        "title": "The marsh evening",
        "game": "tarnholt",
        "game_title": "Tarnholt",
        "game_version": "4.2",
        "pieces": pieces,
        "content": ["mods"],
    }
    page = resources.files("rhizon.page")
    parts = PageParts(
        texts=page_texts(),
        scripts={name: page.joinpath(name).read_text("utf-8") for name in SCRIPTS},
        style=page.joinpath("style.css").read_text("utf-8"),
        qr="",
        kit_file="",
        date="2026-11-28",
    )
    target.mkdir()
    kit = decode(KitManifest, json.dumps(document).encode(), "kit")
    (target / "index.html").write_text(page_html(kit, parts))


def checked(address: str, folder: Path) -> tuple[float, str]:
    """Seconds from the choice of the folder to the verdict, and the verdict."""
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service

    options = webdriver.ChromeOptions()
    options.binary_location = shutil.which("chromium") or ""
    for word in ("--headless", "--no-sandbox", "--disable-gpu"):
        options.add_argument(word)
    driver = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    try:
        driver.get(address)
        begun = time.monotonic()
        driver.find_element("id", "folder").send_keys(str(folder))
        while not (found := driver.find_elements("css selector", ".verdict")):
            time.sleep(0.02)
        return time.monotonic() - begun, found[0].get_attribute("data-verdict") or ""
    finally:
        driver.quit()


def main() -> None:
    count, mib = (int(word) for word in (*sys.argv[1:3], *("500", "4")[len(sys.argv) - 1 :]))
    with tempfile.TemporaryDirectory() as name:
        room = Path(name)
        folder, pieces = folder_of(room, count, mib)
        page_of(room / "page", pieces)
        begun = time.monotonic()
        files = "\0".join(map(str, (folder / "mods").iterdir()))
        command = ["xargs", "-0", "-P", "2", "-n", "25", "openssl", "dgst", "-sha256"]
        subprocess.run(command, input=files, text=True, stdout=subprocess.DEVNULL, check=True)
        floor = time.monotonic() - begun
        print(f"{count} files of {mib} MiB: openssl dgst, two at once: {floor:.1f} s")
        for address, how in (("127.0.0.1", "crypto.subtle"), *((one, "WebAssembly") for one in local_addresses()[:1])):
            with serving(room / "page", address) as server:
                seconds, verdict = checked(server.url, folder)
            print(f"the page at {address} ({how}): {seconds:.1f} s, {seconds / floor:.1f} times, verdict {verdict}")


if __name__ == "__main__":
    main()
