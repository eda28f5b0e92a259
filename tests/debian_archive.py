"""A Debian archive in a folder, made with Debian's own programs: packages by dpkg-source, indexes by dpkg-scansources, signed by
gpg. Served on the loopback interface."""

from __future__ import annotations

import functools
import hashlib
import http.server
import lzma
import os
import shutil
import subprocess
import tarfile
import threading
from pathlib import Path


class DebianArchive:
    """An archive with one suite, `stable`, and a key that signs it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.pool = folder / "served/pool/main/g/gauge"
        self.suite = folder / "served/dists/stable"
        self.asked: list[str] = []
        for one in (self.pool, self.suite / "main/source"):
            one.mkdir(parents=True)
        self.keyring = self.key("archive")

    def key(self, name: str) -> Path:
        """Makes a key, and returns the file of its public part."""
        home = self.folder / f"gnupg-{name}"
        home.mkdir(mode=0o700)
        self._run("gpg", "--homedir", home, "--batch", "--passphrase", "", "--quick-gen-key", name, "ed25519", "sign", "never")
        ring = self.folder / f"{name}.gpg"
        self._run("gpg", "--homedir", home, "--batch", "--output", ring, "--export", name)
        self._run("gpgconf", "--homedir", home, "--kill", "all")
        return ring

    def _run(self, *words: str | Path, at: Path | None = None) -> bytes:
        done = subprocess.run(list(map(str, words)), cwd=at, capture_output=True, check=False, timeout=120)
        assert done.returncode == 0, done.stderr.decode()
        return done.stdout

    def package(
        self, name: str, version: str, upstream: dict[str, str], patches: dict[str, str] | None = None,
        form: str = "3.0 (quilt)", components: dict[str, dict[str, str]] | None = None, debian: dict[str, str] | None = None,
    ) -> Path:  # fmt: skip
        """Adds a source package, and returns its `.dsc`. `patches` are laid over upstream's files, each its whole new text by
        path (one patch each); `components` further archives of upstream; `debian` more files of the packaging."""
        plain = version.rpartition("-")[0] or version
        plain = plain.partition(":")[2] if ":" in plain else plain
        work = self.folder / "work"
        shutil.rmtree(work, ignore_errors=True)
        tree = work / f"{name}-{plain}"
        write_all(tree, upstream)
        if form != "3.0 (native)":
            with tarfile.open(work / f"{name}_{plain}.orig.tar.gz", "w:gz") as tar:
                tar.add(tree, tree.name)
        for component, files in (components or {}).items():
            write_all(work / component, files)
            with tarfile.open(work / f"{name}_{plain}.orig-{component}.tar.gz", "w:gz") as tar:
                tar.add(work / component, component)
            shutil.copytree(work / component, tree / component)
        control = f"Source: {name}\nMaintainer: Harbour <h@example.org>\nStandards-Version: 4.6.2\n\nPackage: {name}\n"
        if form == "3.0 (quilt)":  # upstream's own folder gives way to the packaging's
            shutil.rmtree(tree / "debian", ignore_errors=True)
        write_all(tree, {
            "debian/control": control + "Architecture: any\nDescription: a gauge\n reads\n",
            "debian/changelog": f"{name} ({version}) stable; urgency=low\n\n  * A revision.\n\n"
                                " -- Harbour <h@example.org>  Thu, 01 Jan 2026 00:00:00 +0000\n",
            "debian/source/format": form + "\n",
            **(debian or {}),
        })  # fmt: skip
        if patches and form == "3.0 (quilt)":
            write_all(tree, {"debian/patches/series": "".join(f"{number}.patch\n" for number in range(len(patches)))})
            for number, (path, text) in enumerate(patches.items()):
                write_all(work / "a", {path: upstream.get(path, "")})
                write_all(work / "b", {path: text})
                diff = subprocess.run(
                    ["diff", "-Nu", f"a/{path}", f"b/{path}"], cwd=work, capture_output=True, check=False
                ).stdout
                (tree / f"debian/patches/{number}.patch").write_bytes(diff)
        elif patches:
            write_all(tree, patches)
        self._run("dpkg-source", "--no-check", "-b", tree.name, at=work)
        dsc = next(work.glob("*.dsc"))
        for file in work.iterdir():
            if file.is_file():
                shutil.copy(file, self.pool)
        return self.pool / dsc.name

    def with_binary(self, source: str, binary: str) -> bytes:
        """The index of all packages, in which a source package has one more binary package."""
        text = self._run("dpkg-scansources", "pool", at=self.folder / "served").decode()
        head = f"Package: {source}\n"
        assert head in text
        return text.replace(head, f"{head}Package-List:\n {binary} deb libdevel optional arch=any\n").encode()

    def publish(
        self, by: str = "archive", text: bytes | None = None, by_digest: bool = True, suite: str = "stable", more: str = ""
    ) -> None:
        """Writes the index of all packages (or `text`) and the signed release file, with `more` lines in it."""
        served = self.folder / "served"
        sources = self._run("dpkg-scansources", "pool", at=served) if text is None else text
        data = lzma.compress(sources)
        digest = hashlib.sha256(data).hexdigest()
        write_all(self.suite, {"main/source/Sources.xz": data, f"main/source/by-hash/SHA256/{digest}": data})
        release = f"Origin: Harbour\nSuite: {suite}\nAcquire-By-Hash: {'yes' if by_digest else 'no'}\n"
        release += more
        release += f"SHA256:\n {digest} {len(data)} main/source/Sources.xz\n"
        (self.folder / "Release").write_text(release)
        home = self.folder / f"gnupg-{by}"
        (self.suite / "InRelease").unlink(missing_ok=True)
        self._run(
            "gpg", "--homedir", home, "--batch", "--output", self.suite / "InRelease", "--clearsign", self.folder / "Release"
        )
        self._run("gpgconf", "--homedir", home, "--kill", "all")

    def unpacked(self, dsc: Path, name: str, skip_patches: bool = False) -> Path:
        """The package's files as dpkg-source lays them out."""
        out = self.folder / f"unpacked-{name}"
        skip = ["--skip-patches"] if skip_patches else []
        self._run("dpkg-source", "--no-check", *skip, "-x", dsc, out)
        shutil.rmtree(out / ".pc", ignore_errors=True)
        return out

    def serve(self) -> tuple[str, http.server.ThreadingHTTPServer]:
        """Serves the archive; the address, and the server to be closed."""
        asked = self.asked

        class Handler(http.server.SimpleHTTPRequestHandler):
            def log_message(self, *words: object) -> None:
                asked.append(self.path)

        server = http.server.ThreadingHTTPServer(
            ("127.0.0.1", 0), functools.partial(Handler, directory=os.fspath(self.folder / "served"))
        )
        threading.Thread(target=server.serve_forever, daemon=True).start()
        return f"http://127.0.0.1:{server.server_port}", server


def write_all(folder: Path, files: dict[str, str] | dict[str, bytes] | dict[str, str | bytes]) -> None:
    """Writes files below a folder."""
    for path, data in files.items():
        file = folder / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data if isinstance(data, bytes) else data.encode())
