"""Sources from the network: a server of our own that answers, breaks off, lies, or is not there."""

import hashlib
import http.server
import io
import os
import re
import shutil
import subprocess
import tarfile
import threading
import unittest
import zipfile
from pathlib import Path

import httpx
import zstandard

from tests.support import FolderTest, WorkspaceTest
from yarrik.cache import Store
from yarrik.cache.redirects import http_client
from yarrik.errors import YarrikError
from yarrik.sources import digest_of_url, download, unpack_archive


class Server:
    """Serves `files` by path. A path in `breaking` is cut off in the middle once; `seen` lists requests with their ranges."""

    def __init__(self) -> None:
        self.files: dict[str, bytes] = {}
        self.breaking: set[str] = set()
        self.ranges = True
        self.seen: list[tuple[str, str | None]] = []
        outer = self

        class Handler(http.server.BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                wanted = self.headers.get("Range")
                outer.seen.append((self.path, wanted))
                data = outer.files.get(self.path)
                if data is None:
                    self.send_error(404)
                    return
                start = int(re.fullmatch(r"bytes=(\d+)-", wanted).group(1)) if wanted and outer.ranges else 0
                self.send_response(206 if start else 200)
                self.send_header("Content-Length", str(len(data) - start))
                self.end_headers()
                rest = data[start:]
                if self.path in outer.breaking:
                    outer.breaking.discard(self.path)
                    self.wfile.write(rest[: len(rest) // 2])
                    self.wfile.flush()
                    self.connection.close()
                    return
                self.wfile.write(rest)

            def log_message(self, *words: object) -> None:
                pass

        self.http = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.http.serve_forever, daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.http.server_address[1]}"

    def close(self) -> None:
        self.http.shutdown()
        self.http.server_close()


def archive_of(form: str) -> bytes:
    """A note in a folder, as an archive of this form."""
    sink = io.BytesIO()
    if form == "zip":
        with zipfile.ZipFile(sink, "w") as file:
            info = zipfile.ZipInfo("note-1.0/run.sh", (2026, 1, 1, 0, 0, 0))
            info.external_attr = 0o100755 << 16
            file.writestr(info, "#!/bin/sh\n")
            file.writestr("note-1.0/note", b"high water\n" * 9000)
        return sink.getvalue()
    with tarfile.open(fileobj=sink, mode="w") as tar:
        for name, data, mode in (("note-1.0/run.sh", b"#!/bin/sh\n", 0o755), ("note-1.0/note", b"high water\n" * 9000, 0o644)):
            member = tarfile.TarInfo(name)
            member.size, member.mode = len(data), mode
            tar.addfile(member, io.BytesIO(data))
    return zstandard.compress(sink.getvalue()) if form == "tar.zst" else sink.getvalue()


class WhatComesIsCounted(FolderTest):
    def test_bytes_so_far_and_in_all_also_when_going_on(self) -> None:
        server = Server()
        self.addCleanup(server.http.shutdown)
        data = os.urandom(3 << 20)
        server.files["/a.tar"], server.breaking = data, {"/a.tar"}
        told: list[tuple[int, int | None]] = []
        digest = hashlib.sha256(data).hexdigest()
        url = f"http://127.0.0.1:{server.http.server_port}/a.tar"
        download(
            [url], digest, Store(self.folder / "cache"), lambda text: None, tell=lambda have, total: told.append((have, total))
        )
        self.assertEqual({total for _, total in told}, {len(data)})
        self.assertEqual(told[-1][0], len(data))
        self.assertEqual([have for have, _ in told], sorted(have for have, _ in told))


class RedirectsStayWhereTheyBelong(FolderTest):
    def serve(self, answer: dict[str, str]) -> int:
        """A server that sends on what `answer` names, and gives the rest; its port."""

        class Handler(http.server.BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                there = answer.get(self.path)
                self.send_response(302 if there else 200)
                body = b"" if there else b"the file"
                if there:
                    self.send_header("Location", there)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, *words: object) -> None:
                pass

        server = http.server.ThreadingHTTPServer(("0.0.0.0", 0), Handler)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        return server.server_port

    def test_on_the_same_host_and_to_hosts_of_the_settings(self) -> None:
        answer: dict[str, str] = {}
        port = self.serve(answer)
        answer |= {"/here": "/file", "/there": f"http://localhost:{port}/file", "/round": "/round"}
        digest = hashlib.sha256(b"the file").hexdigest()
        store = Store(self.folder / "cache")

        def take(path: str, *hosts: str) -> str:
            store.drop(digest)
            try:
                download([f"http://127.0.0.1:{port}{path}"], digest, store, lambda text: None, redirect_hosts=hosts)
            except YarrikError as error:
                return error.troubles[0].why
            return "taken"

        self.assertEqual(take("/here"), "taken")
        self.assertIn("another host, localhost", take("/there"))
        self.assertIn('redirect-hosts = ["localhost"]', take("/there"))
        self.assertEqual(take("/there", "localhost"), "taken")
        self.assertNotEqual(take("/round"), "taken")
        with self.assertRaisesRegex(YarrikError, "another host"):
            digest_of_url(f"http://127.0.0.1:{port}/there", self.folder)

    def test_never_from_https_to_http(self) -> None:
        with http_client(httpx.Timeout(5), ["example.org"]) as one:
            hook = one.event_hooks["response"][0]
            request = httpx.Request("GET", "https://example.org/x")
            with self.assertRaisesRegex(httpx.TooManyRedirects, "from https to http"):
                hook(httpx.Response(302, headers={"location": "http://example.org/x"}, request=request))
            hook(httpx.Response(302, headers={"location": "/y"}, request=request))


class ArchivesUnpackAlike(FolderTest):
    def test_zip_and_zstd_give_the_same_tree_as_tar(self) -> None:
        store = Store(self.folder / "cache")
        digests = set()
        for form in ("tar", "tar.zst", "zip"):
            path = self.write(f"note.{form}", archive_of(form))
            tree = unpack_archive(path, path.name, store)
            digests.add(tree.digest)
            self.assertEqual([(entry.path, entry.mode) for entry in tree.files], [("note", 0o644), ("run.sh", 0o755)])
        self.assertEqual(len(digests), 1)

    def test_members_that_lead_out_and_broken_archives_are_refused(self) -> None:
        store = Store(self.folder / "cache")
        evil = io.BytesIO()
        with zipfile.ZipFile(evil, "w") as file:
            file.writestr("../evil", "x")
        device = io.BytesIO()
        with zipfile.ZipFile(device, "w") as file:
            info = zipfile.ZipInfo("device")
            info.external_attr = 0o020644 << 16
            file.writestr(info, "")
        whole = archive_of("tar.zst")
        for name, data in (("a.zip", evil.getvalue()), ("b.zip", device.getvalue()), ("c.zip", b"PK nothing"), ("d.tar.zst", whole[: len(whole) // 2]),
                           ("e.tar.zst", b"\x28\xb5\x2f\xfd nothing")):  # fmt: skip
            with self.assertRaises(YarrikError, msg=name):
                unpack_archive(self.write(name, data), name, store)


class SourcesComeFromTheNetwork(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.server = Server()
        self.addCleanup(self.server.close)
        self.data = self.server.files["/note-1.0.tar.zst"] = archive_of("tar.zst")
        self.write("w/s/images/i.toml", 'packages = ["init", "note"]\n')

    def note(self, url: str, sha256: str | None = None, more: str = "") -> None:
        digest = hashlib.sha256(self.data).hexdigest() if sha256 is None else sha256
        line = f'sha256 = "{digest}"' if digest else ""
        self.write("w/s/recipes/note/recipe.toml", f'version = "1.0"\nlicence = "MIT"\n[[source]]\nurl = "{url}"\n{line}\n{more}\n'
                   '[build]\nusing = "files"\nplace = [{ from = "note", to = "/etc/note" }]\n')  # fmt: skip

    def trouble(self, *words: str, code: int = 1) -> dict:
        return self.yarrik_json(*(words or ("build",)), code=code, at=self.root)["troubles"][0]

    def test_fetched_once_and_built_without_a_network(self) -> None:
        self.note(self.server.url + "/note-{version}.tar.zst")
        self.assertEqual(self.trouble("build", "--offline")["code"], "SOURCE-OFFLINE")
        self.yarrik("fetch", at=self.root)
        self.assertEqual(self.server.seen, [("/note-1.0.tar.zst", None)])
        self.server.close()
        self.yarrik("build", "--offline", at=self.root)
        self.assertIn("/etc/note", self.yarrik("inspect", "out/p/p.img", "/etc", at=self.root))

    def test_a_broken_download_goes_on_where_it_ended(self) -> None:
        for ranges in (True, False):
            self.server.ranges, self.server.seen = ranges, []
            self.server.breaking.add("/note-1.0.tar.zst")
            self.data = self.server.files["/note-1.0.tar.zst"] = archive_of("tar.zst") + bytes([ranges])
            self.note(self.server.url + "/note-1.0.tar.zst", more='name = "blob"')
            self.yarrik("fetch", at=self.root)
            again = self.server.seen[1][1]
            self.assertRegex(again, r"bytes=\d+-")
            self.assertEqual(len(self.server.seen), 2)

    def test_mirrors_are_asked_in_order_and_a_wrong_file_is_never_used(self) -> None:
        self.server.files["/wrong"] = b"not it"
        self.note(
            self.server.url + "/missing",
            more=f'mirrors = ["{self.server.url}/wrong", "{self.server.url}/note-1.0.tar.zst"]\nname = "n.tar.zst"',
        )
        self.yarrik("build", at=self.root)
        self.assertEqual([path for path, _ in self.server.seen], ["/missing", "/wrong", "/note-1.0.tar.zst"])
        self.data = b"another"
        self.note(self.server.url + "/wrong")
        trouble = self.trouble()
        self.assertEqual(trouble["code"], "SOURCE-DIGEST")
        for digest in (hashlib.sha256(b"not it"), hashlib.sha256(b"another")):
            self.assertIn(digest.hexdigest(), trouble["what"])

    def test_what_each_place_answered_is_told(self) -> None:
        self.note(self.server.url + "/missing", more='mirrors = ["http://127.0.0.1:9/x"]')
        trouble = self.trouble()
        self.assertEqual((trouble["code"], trouble["line"]), ("SOURCE-UNREACHABLE", 4))
        self.assertIn("answered 404", trouble["why"])
        self.assertIn("127.0.0.1:9: ", trouble["why"])

    def test_13_a_source_without_a_digest(self) -> None:
        self.note(self.server.url + "/note-1.0.tar.zst", sha256="")
        trouble = self.trouble("check", code=2)
        self.assertEqual((trouble["code"], trouble["line"]), ("SOURCE-NO-DIGEST", 4))
        told = self.yarrik_json("fetch", "--digest", self.server.url + "/note-1.0.tar.zst")
        self.assertEqual(told["sha256"], hashlib.sha256(self.data).hexdigest())
        self.note("ftp://127.0.0.1/x")
        self.assertEqual(self.trouble("check", code=2)["code"], "VALUE-UNFIT")

    def test_a_file_that_is_no_archive_is_taken_as_it_is(self) -> None:
        self.data = self.server.files["/tide.conf"] = b"rate = 9\n"
        self.note(self.server.url + "/tide.conf")
        recipe = self.root / "s/recipes/note/recipe.toml"
        recipe.write_text(recipe.read_text().replace('from = "note"', 'from = "tide.conf"'))
        self.yarrik("build", at=self.root)
        self.yarrik("inspect", "out/p/p.img", "--extract", "/etc/note", "--to", self.folder / "there", at=self.root)
        self.assertEqual(
            next(path for path in Path(self.folder / "there").rglob("*") if path.is_file()).read_bytes(), self.data
        )


class SourcesComeFromGit(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("w/s/images/i.toml", 'packages = ["init", "note"]\n')
        self.repository = self.folder / "tide"
        self.commits = []
        self.git("init", "-q", "-b", "main", self.repository, at=self.folder)
        for text in ("one\n", "two\n"):
            self.write("tide/library/note", text)
            self.git("add", "-A")
            self.git("commit", "-q", "-m", text)
            self.commits.append(self.git("rev-parse", "HEAD").strip())

    def git(self, *words: str | Path, at: Path | None = None) -> str:
        identity = {f"GIT_{who}_{what}": "x@example.org" for who in ("AUTHOR", "COMMITTER") for what in ("NAME", "EMAIL")}
        environment = {**os.environ, **identity, "GIT_ALLOW_PROTOCOL": "file"}
        done = subprocess.run(
            ["git", *map(str, words)], cwd=at or self.repository, env=environment, check=True, capture_output=True, text=True
        )
        return done.stdout

    def note(self, commit: str, more: str = "", place: str = "library/note", url: str | None = None) -> None:
        lines = ['version = "1"', 'licence = "MIT"', "[[source]]", f'git = "{url or self.repository.as_uri()}"']
        lines += [f'commit = "{commit}"'] if commit else []
        lines += [more, "[build]", 'using = "files"', f'place = [{{ from = "{place}", to = "/etc/note" }}]']
        self.write("w/s/recipes/note/recipe.toml", "\n".join(lines) + "\n")

    def built(self, name: str) -> str:
        self.yarrik("build", at=self.root)
        self.yarrik("inspect", "out/p/p.img", "--extract", "/etc/note", "--to", self.folder / name, at=self.root)
        return next(path for path in (self.folder / name).rglob("*") if path.is_file()).read_text()

    def trouble(self, *words: str, code: int = 1) -> dict:
        return self.yarrik_json(*words, code=code, at=self.root)["troubles"][0]

    def test_a_commit_the_newest_or_an_older_one_and_a_folder_of_it(self) -> None:
        for commit, text, more, place in (
            (self.commits[1], "two\n", "", "library/note"),
            (self.commits[0], "one\n", 'folder = "library"', "note"),
        ):
            self.note(commit, more, place)
            self.assertEqual(self.built(text.strip()), text)
        shutil.rmtree(self.repository)
        self.yarrik("build", "--offline", at=self.root)

    def test_submodules_come_when_they_are_asked_for(self) -> None:
        other = self.folder / "other"
        self.git("init", "-q", "-b", "main", other, at=self.folder)
        self.write("other/deep", "deep\n")
        self.git("add", "-A", at=other)
        self.git("commit", "-q", "-m", "x", at=other)
        self.git("submodule", "add", "-q", other.as_uri(), "below")
        self.git("commit", "-q", "-m", "with a submodule")
        commit = self.git("rev-parse", "HEAD").strip()
        self.note(commit, "submodules = true", "below/deep")
        self.assertEqual(self.built("sub"), "deep\n")
        self.note(commit, "", "below/deep")
        self.assertEqual(self.trouble("build")["code"], "STEP-FAILED")

    def test_what_is_not_there_or_may_move_is_told(self) -> None:
        self.note("0" * 40)
        trouble = self.trouble("build")
        self.assertEqual((trouble["code"], trouble["line"]), ("SOURCE-UNREACHABLE", 4))
        self.note(self.commits[0], 'folder = "librayr"')
        self.assertEqual(self.trouble("build")["code"], "SOURCE-MISSING")
        self.note("")
        self.assertEqual(self.trouble("check", code=2)["code"], "SOURCE-NO-DIGEST")
        self.note("main")
        self.assertEqual(self.trouble("check", code=2)["code"], "VALUE-UNFIT")
        self.note(self.commits[0], url="ext::sh -c evil")
        self.assertEqual(self.trouble("check", code=2)["code"], "VALUE-UNFIT")
        self.note(self.commits[0])
        self.assertEqual(self.trouble("build", "--offline")["code"], "SOURCE-OFFLINE")


if __name__ == "__main__":
    unittest.main()
