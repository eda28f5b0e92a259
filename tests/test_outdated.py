"""Recipes against what their sources offer: a Debian archive, a repository's tags, the files beside a download."""

from __future__ import annotations

import functools
import hashlib
import http.server
import io
import os
import subprocess
import tarfile
import threading
import unittest
import unittest.mock
from pathlib import Path

from tests.support import FolderTest
from tests.test_debian_sources import GAUGE, AnArchive
from yarrik.errors import YarrikError
from yarrik.sources import Offered, listed_beside, newer, tagged

IDENTITY = {"GIT_AUTHOR_NAME": "a", "GIT_AUTHOR_EMAIL": "a@example.org", "GIT_COMMITTER_NAME": "a", "GIT_COMMITTER_EMAIL": "a@example.org",
            "GIT_CONFIG_NOSYSTEM": "1", "GIT_CONFIG_GLOBAL": os.devnull}  # fmt: skip


def git(folder: Path, *words: str) -> str:
    done = subprocess.run(
        ["git", *words], cwd=folder, env={**os.environ, **IDENTITY}, capture_output=True, text=True, check=True
    )
    return done.stdout.strip()


def tagged_repository(folder: Path, *tags: str) -> dict[str, str]:
    """A repository with a commit for each tag, which is annotated; the commits by tag."""
    folder.mkdir()
    git(folder, "init", "-q")
    commits = {}
    for tag in tags:
        (folder / "gauge.c").write_text(f"{GAUGE}/* {tag} */\n")
        git(folder, "add", ".")
        git(folder, "commit", "-qm", tag)
        git(folder, "tag", "-am", tag, tag)
        commits[tag] = git(folder, "rev-parse", "HEAD")
    return commits


def archive(name: str, text: str) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:gz") as tar:
        info = tarfile.TarInfo(f"{name}/gauge.c")
        info.size = len(text)
        tar.addfile(info, io.BytesIO(text.encode()))
    return out.getvalue()


class WhatIsOffered(FolderTest):
    def test_the_newest_of_several(self) -> None:
        offers = [Offered(text, text) for text in ("1.9", "1.10", "2.0-rc1", "1.2", "no version", "")]
        self.assertEqual(newer(offers, "1.2").version, "1.10")  # type: ignore[union-attr]
        self.assertIsNone(newer(offers, "1.10"))
        self.assertEqual(newer(offers, "2.0-beta").version, "2.0-rc1")  # type: ignore[union-attr]
        self.assertIsNone(newer([], "1"))

    def test_tags_in_many_spellings(self) -> None:
        commits = tagged_repository(self.folder / "r", "v1.0", "v1.1", "gauge-9.9", "v2.0-rc1", "nightly", "release_7")
        url = f"file://{self.folder}/r"
        with unittest.mock.patch("yarrik.sources.offers.PROTOCOLS", "file"):
            found = tagged(url, "1.0")
            self.assertEqual([(one.version, one.detail) for one in found],
                             [("1.0", commits["v1.0"]), ("1.1", commits["v1.1"]), ("2.0-rc1", commits["v2.0-rc1"])])  # fmt: skip
            # Without a tag of the present version, what ends as a version counts.
            self.assertEqual({one.version for one in tagged(url, "0.1")}, {"1.0", "1.1", "9.9", "2.0-rc1", "7"})
            with self.assertRaises(YarrikError) as caught:
                tagged(f"file://{self.folder}/nothing", "1")
        self.assertEqual(caught.exception.troubles[0].code, "SOURCE-UNREACHABLE")

    def test_listings(self) -> None:
        page = """<a href="gauge-1.0.tar.gz">x</a> <A HREF='gauge-1.10.tar.gz'>y</A> <a href=gauge-1.9.tar.gz?C=M>z</a>
        <a href="http://elsewhere.example.org/gauge-8.0.tar.gz">e</a> <a href="../gauge-7.0.tar.gz">up</a> <a href="sub/gauge-6.0.tar.gz">s</a>
        <a href="gauge-doc-5.0.tar.gz">d</a> <a href="gauge-2.0.tar.gz.sig">s</a> <a href="/at/gauge-1.2.tar.gz">a</a>"""
        with unittest.mock.patch("yarrik.sources.offers.receive_small", return_value=page.encode()):
            found = listed_beside("http://x.example.org/at/gauge-1.0.tar.gz", "1.0")
            self.assertEqual([(one.version, one.detail.rpartition("/")[0]) for one in found],
                             [(text, "http://x.example.org/at") for text in ("1.0", "1.10", "1.9", "1.2")])  # fmt: skip
            self.assertEqual(listed_beside("http://x.example.org/at/gauge.tar.gz", "1.0"), [])


class RecipesAreUpdated(AnArchive):
    def setUp(self) -> None:
        super().setUp()
        self.archive.package("gauge", "1.2-1", {"gauge.c": GAUGE})
        self.archive.publish()
        self.file = self.root / "s/recipes/gauge/recipe.toml"

    def outdated(self) -> dict:
        told = self.yarrik_json("outdated", "gauge", at=self.root)
        self.assertEqual(told["warnings"], [])
        found = told["recipes"][0]
        return {key: found[key] for key in ("version", "have", "newest", "revision")}

    def test_a_debian_archive(self) -> None:
        self.yarrik("build", at=self.root)
        self.assertEqual(self.outdated(), {"version": "1.2", "have": "1.2-1", "newest": None, "revision": None})
        self.assertIn(
            "0 of 1 recipe outdated; 3 others have no source that can be asked", self.yarrik("outdated", at=self.root)
        )
        said = self.yarrik("outdated", "--update", "gauge", code=2, at=self.root)
        self.assertIn("NOTHING-NEWER", said)

        self.archive.package("gauge", "1.2-3", {"gauge.c": GAUGE}, {"gauge.c": GAUGE.replace("upstream", "patched")})
        self.archive.publish()
        self.assertEqual(self.outdated(), {"version": "1.2", "have": "1.2-1", "newest": None, "revision": "1.2-3"})
        before = self.file.read_text()
        said = self.yarrik("outdated", "--update", "gauge", at=self.root)
        self.assertIn("gauge: 1.2-1 → 1.2-3 in yarrik.lock", said)
        self.assertEqual(self.file.read_text(), before)
        self.assertEqual(self.lock()["debian"]["gauge 1.2"]["version"], "1.2-3")

        self.archive.package("gauge", "1.4-1", {"gauge.c": GAUGE})
        self.archive.publish()
        said = self.yarrik("outdated", at=self.root)
        self.assertRegex(said, r"gauge +1.2-3 +→ +1.4 +new version +debian +s\n")
        self.assertIn("1 of 1 recipe outdated", said)
        said = self.yarrik("outdated", "--update", "gauge", at=self.root)
        self.assertIn('-version = "1.2"\n+version = "1.4"\n', said)
        self.assertEqual(self.file.read_text(), before.replace('version = "1.2"', 'version = "1.4"'))
        self.yarrik("build", "--locked", "--offline", at=self.root)

    def test_patches_that_no_longer_fit_change_nothing(self) -> None:
        upstream = f"/* gauge */\n{GAUGE}/* end */\n"
        self.archive.package("gauge", "1.3-1", {"gauge.c": upstream})
        self.archive.publish()
        self.gauge('debian = "gauge"', version="1.3")
        self.file.write_text('patches = ["own.patch"]\n' + self.file.read_text())
        self.write("w/s/recipes/gauge/own.patch", "--- a/gauge.c\n+++ b/gauge.c\n@@ -2,3 +2,3 @@\n int puts(const char *);\n"
                   '-int main(void) { return puts("upstream") < 0; }\n+int main(void) { return puts("ours") < 0; }\n /* end */\n')  # fmt: skip
        self.yarrik("build", at=self.root)
        self.archive.package("gauge", "1.4-1", {"gauge.c": upstream.replace("upstream", "other")})
        self.archive.publish()
        before = self.file.read_bytes(), (self.root / "yarrik.lock").read_bytes()
        said = self.yarrik("outdated", "--update", "gauge", code=1, at=self.root)
        self.assertIn("PATCH-FAILED: the patch own.patch does not fit gauge.c:3", said)
        self.assertEqual((self.file.read_bytes(), (self.root / "yarrik.lock").read_bytes()), before)
        self.archive.package("gauge", "1.5-1", {"gauge.c": "/* more */\n" + upstream})
        self.archive.publish()
        self.assertIn("its patches fit", self.yarrik("outdated", "--update", "gauge", at=self.root))

    def test_a_download_with_others_beside_it(self) -> None:
        served = self.folder / "files"
        served.mkdir()
        files = {version: archive(f"gauge-{version}", GAUGE + version) for version in ("1.2", "1.3", "1.10", "2.0-rc1")}
        for version, data in files.items():
            (served / f"gauge-{version}.tar.gz").write_bytes(data)
        handler = functools.partial(Quiet, directory=os.fspath(served))
        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        digest = {version: hashlib.sha256(data).hexdigest() for version, data in files.items()}
        for url in ("gauge-{version}.tar.gz", "gauge-1.2.tar.gz"):
            at = f"http://127.0.0.1:{server.server_port}/{url}"
            self.gauge(f'url = "{at}"\nsha256 = "{digest["1.2"]}"            # as upstream gives it')
            self.assertEqual(self.outdated()["newest"], "1.10")
            said = self.yarrik("outdated", "--update", "gauge", at=self.root)
            self.assertIn("gauge: 1.2 → 1.10 in its file", said)
            text = self.file.read_text()
            self.assertIn(f'sha256 = "{digest["1.10"]}"            # as upstream gives it', text)
            self.assertIn('version = "1.10"', text)
            self.assertIn("{version}" if "{" in url else "gauge-1.10.tar.gz", text)
            self.yarrik("build", at=self.root)
            self.assertTrue(self.content("/usr/share/gauge.c").endswith("1.10"))

    def test_a_repository_with_newer_tags(self) -> None:
        commits = tagged_repository(self.folder / "gauge-git", "v1.2", "v1.9", "v1.10", "v2.0-rc1")
        self.gauge(f'git = "file://{self.folder}/gauge-git"\ncommit = "{commits["v1.2"]}"    # its release')
        self.yarrik("build", at=self.root)
        self.assertEqual(self.outdated()["newest"], "1.10")
        said = self.yarrik("outdated", "--update", "gauge", at=self.root)
        self.assertIn("gauge: 1.2 → 1.10 in its file", said)
        self.assertIn(f'commit = "{commits["v1.10"]}"    # its release', self.file.read_text())
        self.assertIn('version = "1.10"', self.file.read_text())
        self.yarrik("build", at=self.root)
        self.assertTrue(self.content("/usr/share/gauge.c").endswith("/* v1.10 */\n"))
        self.assertIn("NOTHING-NEWER", self.yarrik("outdated", "--update", "gauge", code=2, at=self.root))
        # A tag that was moved since is another commit: what the recipe names counts, and nothing is newer.
        git(self.folder / "gauge-git", "tag", "-fam", "again", "v1.10", commits["v1.9"])
        self.assertEqual(self.outdated()["newest"], None)

    def test_what_is_for_others_to_change_or_unclear(self) -> None:
        self.yarrik("build", at=self.root)
        self.archive.package("gauge", "1.4-1", {"gauge.c": GAUGE})
        self.archive.publish()
        text = self.file.read_text()
        self.file.write_text(text.replace('version = "1.2"', 'version = "1.2"\nversions = ["1.2", "1.1"]'))
        self.assertIn("UPDATE-UNCLEAR", self.yarrik("outdated", "--update", "gauge", code=2, at=self.root))
        self.file.write_text(text)
        self.assertIn("RECIPE-UNKNOWN", self.yarrik("outdated", "gouge", code=2, at=self.root))
        # On a shelf that comes with Yarrik only the lock can move.
        self.yarrik("shelf", "add", "commons", at=self.root)
        (self.root / "s/images/i.toml").write_text('packages = ["init", "zlib"]\n')
        for version in ("1:1.2.13-1", "1:1.4.0-1"):
            self.archive.package("zlib", version, {"README": "zlib\n", "gauge.c": GAUGE})
        self.archive.publish()
        said = self.yarrik("outdated", "--update", "zlib", code=2, at=self.root)
        self.assertIn("UPDATE-NOT-OURS", said)
        self.assertIn("which comes with Yarrik", said)

    def test_an_archive_that_does_not_answer_is_said_once(self) -> None:
        self.yarrik("build", at=self.root)
        (self.archive.suite / "InRelease").unlink()
        said = self.yarrik("outdated", at=self.root)
        self.assertEqual(said.count("SOURCE-UNREACHABLE"), 1)
        self.assertIn("0 of 0 recipes outdated", said)
        self.assertFalse(self.yarrik_json("outdated", at=self.root)["ok"])


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *words: object) -> None:
        pass


if __name__ == "__main__":
    unittest.main()
