"""Caches that machines share: a second machine builds nothing, and nothing wrong is ever taken."""

import functools
import hashlib
import http.server
import json
import logging
import os
import shutil
import signal
import subprocess
import sys
import threading
import time
import unittest
from collections.abc import Iterator
from pathlib import Path

from moto.server import ThreadedMotoServer

from tests.support import FolderTest, WorkspaceTest
from yarrik.cache import MissingObject, Result, Store
from yarrik.cache.pace import TooSlow, paced, within
from yarrik.cache.places import FolderStorage
from yarrik.cache.shared import SMALL, Shared, SharedCache
from yarrik.cache.signing import SigningKey, holds

#: What only takes files of this machine is not asked for.
LOCAL = ("prepare ", "fetch ")


class SharingTest(WorkspaceTest):
    """Two workspaces of the same content, each with a cache and a user of its own."""

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(self.root, self.folder / "second/w")
        self.key = self.folder / "key"
        self.public = SigningKey.make(self.key).public

    def settings(self, who: str, at: str, more: str = "", trusted: str | None = None) -> dict[str, str]:
        """The environment of a user with this shared cache."""
        keys = json.dumps([self.public if trusted is None else trusted] if trusted != "" else [])
        text = f'trusted-keys = {keys}\n[[shared-cache]]\nname = "office"\nat = "{at}"\ntime-out = "2 s"\n{more}\n'
        file = self.write(f"{who}/settings.toml", text)
        return {**self.environment, "YARRIK_SETTINGS": str(file), "YARRIK_CACHE": str(self.folder / who / "cache")}

    def pushing(self) -> str:
        return f'push = true\nsigning-key = "{self.key}"'

    def build(self, environment: dict[str, str], root: Path, *words: str) -> dict:
        self.environment = environment
        return self.yarrik_json("build", *words, at=root)

    def not_local(self, report: dict) -> list[str]:
        return [name for name in self.ran(report) if not name.startswith(LOCAL)]

    @property
    def second(self) -> Path:
        return self.folder / "second/w"


class TheSecondMachineBuildsNothing(SharingTest):
    def test_over_a_folder(self) -> None:
        at = self.folder / "shared"
        at.mkdir()
        first = self.build(self.settings("first", str(at), self.pushing()), self.root)
        self.assertGreater(len(self.not_local(first)), 8)
        report = self.build(self.settings("second", str(at)), self.second)
        self.assertEqual(self.not_local(report), [])
        self.assertGreater(sum(step["how"] == "shared" for step in report["steps"]), 8)
        for name in ("p.img", "packages.json", "SHA256SUMS"):
            self.assertEqual((self.second / "out/p" / name).read_bytes(), (self.root / "out/p" / name).read_bytes(), name)
        self.assertEqual((report["traffic"]["sent"], first["traffic"]["brought"]), (0, 0))
        self.assertEqual(report["traffic"]["brought"], sum(step["how"] == "shared" for step in report["steps"]))
        self.assertGreater(first["traffic"]["sent_bytes"], report["traffic"]["brought_bytes"] // 2)
        self.assertFalse(self.build(self.environment, self.second)["changed"])

    def test_what_was_made_without_a_sandbox_is_another_thing_and_goes_nowhere(self) -> None:
        at = self.folder / "shared"
        at.mkdir()
        self.recipe(
            "app", "mkdir -p $DESTDIR/usr; test -e /etc/passwd && echo seen > $DESTDIR/usr/x || echo unseen > $DESTDIR/usr/x"
        )
        self.write("w/s/images/i.toml", 'packages = ["init", "app"]\n')
        self.environment = self.settings("first", str(at), self.pushing())
        first = self.yarrik_json("build", "--no-sandbox", at=self.root)
        self.assertIn("build app", self.ran(first))
        self.yarrik("cache", "push", at=self.root)
        sent = {path.name for path in at.rglob("*") if path.is_file()}
        for step in first["steps"]:
            if step["step"].startswith(("build", "stage", "split app", "assemble", "write")):
                self.assertNotIn(step["fingerprint"], sent, step["step"])
        self.assertIn("sandbox", self.yarrik("plan", "--why", "build app", at=self.root))
        second = self.yarrik_json("build", at=self.root)
        self.assertIn("build app", self.ran(second))
        self.assertEqual(self.content("/usr/x"), "unseen\n")

    def test_sources_come_from_there_too_when_their_own_place_is_gone(self) -> None:
        class Sources(http.server.SimpleHTTPRequestHandler):
            def log_message(self, *words: object) -> None:
                pass

        sources = self.folder / "sources"
        sources.mkdir()
        data = b"the level is high\n"
        (sources / "note.txt").write_bytes(data)
        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Sources, directory=str(sources)))
        threading.Thread(target=server.serve_forever, daemon=True).start()
        recipe = f"""
            version = "1"
            licence = "MIT"
            [[source]]
            url = "http://127.0.0.1:{server.server_port}/note.txt"
            sha256 = "{hashlib.sha256(data).hexdigest()}"
            [build]
            using = "files"
            place = [{{ from = "note.txt", to = "/usr/share/note.txt" }}]
        """
        for root in ("w", "second/w"):
            self.write(f"{root}/s/recipes/note/recipe.toml", recipe)
            self.write(f"{root}/s/images/i.toml", 'packages = ["init", "note"]\n')
        at = self.folder / "shared"
        at.mkdir()
        self.build(self.settings("first", str(at), self.pushing()), self.root)
        server.shutdown()
        server.server_close()
        report = self.build(self.settings("second", str(at)), self.second)
        self.assertEqual({step["step"]: step["how"] for step in report["steps"]}["fetch note"], "shared")
        self.assertTrue(report["ok"])

    def test_over_an_s3_store(self) -> None:
        logging.getLogger("werkzeug").setLevel(logging.ERROR)
        server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
        server.start()
        self.addCleanup(server.stop)
        host, port = server.get_host_and_port()
        keys = {"AWS_ACCESS_KEY_ID": "made-up", "AWS_SECRET_ACCESS_KEY": "made-up", "AWS_DEFAULT_REGION": "us-east-1"}
        import boto3

        url = f"http://{host}:{port}"
        boto3.client(
            "s3", endpoint_url=url, aws_access_key_id="a", aws_secret_access_key="b", region_name="us-east-1"
        ).create_bucket(Bucket="tides")
        more = f'endpoint = "{url}"\n'
        self.build({**self.settings("first", "s3://tides/yarrik", more + self.pushing()), **keys}, self.root)
        report = self.build({**self.settings("second", "s3://tides/yarrik", more), **keys}, self.second)
        self.assertEqual(self.not_local(report), [])
        self.assertEqual(report["warnings"], [])

    def test_over_http_between_two_networks_and_poisoned(self) -> None:
        served = self.folder / "served"
        served.mkdir()
        conf = self.write("nginx.conf", f"""
            daemon off; user root; pid {self.folder}/nginx.pid; error_log {self.folder}/nginx.log;
            events {{}}
            http {{
              access_log {self.folder}/access.log; client_body_temp_path {self.folder}/nginx-body; client_max_body_size 0;
              server {{ listen 10.77.1.1:8080; listen 10.77.2.1:8080; root {served}; dav_methods PUT; create_full_put_path on; }}
            }}""")  # fmt: skip
        first = self.settings("first", "http://10.77.1.1:8080", self.pushing())
        second = self.settings("second", "http://10.77.2.1:8080")
        third = {**self.settings("third", "http://10.77.2.1:8080")}
        poison = self.write("poison.py", f"""
            from pathlib import Path
            for kind in ("objects", "bundles"):
                for file in sorted(Path({str(served)!r}, kind).rglob("*.zst")):
                    data = bytearray(file.read_bytes())
                    data[len(data) // 2] ^= 1
                    file.write_bytes(data)
        """)  # fmt: skip

        def build(network: str, environment: dict[str, str], root: Path, out: str) -> str:
            words = " ".join(f"{name}='{environment[name]}'" for name in ("YARRIK_SETTINGS", "YARRIK_CACHE"))
            return f"cd {root}; ip netns exec {network} env {words} {sys.executable} -m yarrik build --json > {self.folder}/{out} 2> {self.folder}/{out}.said || true"

        shutil.copytree(self.second, self.folder / "third/w")
        script = self.write("networks.sh", f"""
            set -e
            mount -t tmpfs tmpfs /run
            ip link set lo up
            for number in 1 2; do
                ip netns add n$number
                ip link add v$number type veth peer name w$number
                ip link set w$number netns n$number
                ip addr add 10.77.$number.1/24 dev v$number
                ip link set v$number up
                ip netns exec n$number ip addr add 10.77.$number.2/24 dev w$number
                ip netns exec n$number ip link set w$number up
                ip netns exec n$number ip link set lo up
            done
            nginx -c {conf} -e {self.folder}/nginx.log &
            server=$!
            trap 'kill $server' EXIT
            sleep 1
            {build("n1", first, self.root, "first.json")}
            {build("n2", second, self.second, "second.json")}
            {sys.executable} {poison}
            {build("n2", third, self.folder / "third/w", "third.json")}
        """)  # fmt: skip
        done = subprocess.run(
            ["unshare", "--user", "--map-root-user", "--net", "--mount", "sh", str(script)],
            capture_output=True,
            text=True,
            timeout=300,
        )
        log = self.folder / "nginx.log"
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr + (log.read_text() if log.exists() else ""))
        reports = []
        for name in ("first", "second", "third"):
            said = (self.folder / f"{name}.json").read_text()
            self.assertRegex(said, r"\{.*\}\n\Z", f"{name}: {(self.folder / f'{name}.json.said').read_text()}")
            reports.append(json.loads(said.splitlines()[-1]))
        self.assertGreater(len(self.not_local(reports[0])), 8)
        self.assertEqual(reports[0]["warnings"], [])
        self.assertEqual(self.not_local(reports[1]), [])
        self.assertEqual((self.second / "out/p/p.img").read_bytes(), (self.root / "out/p/p.img").read_bytes())
        self.assertEqual([one["code"] for one in reports[2]["warnings"]], ["CACHE-REFUSED"])
        self.assertTrue(reports[2]["ok"])
        self.assertIn("build init", self.ran(reports[2]))
        self.assertEqual((self.folder / "third/w/out/p/p.img").read_bytes(), (self.root / "out/p/p.img").read_bytes())
        self.assertIn("PUT /results/", (self.folder / "access.log").read_text())


class WhatIsWrongIsRefused(SharingTest):
    def setUp(self) -> None:
        super().setUp()
        self.at = self.folder / "shared"
        self.at.mkdir()
        self.build(self.settings("first", str(self.at), self.pushing()), self.root)
        self.image = (self.root / "out/p/p.img").read_bytes()

    def refused(self, why: str, trusted: str | None = None) -> None:
        """The second machine builds by itself, comes to the same, and tells why."""
        report = self.build(self.settings("second", str(self.at), trusted=trusted), self.second)
        self.assertEqual([one["code"] for one in report["warnings"]], ["CACHE-REFUSED"])
        self.assertIn(why, report["warnings"][0]["what"])
        self.assertGreater(len(self.not_local(report)), 0)
        self.assertEqual((self.second / "out/p/p.img").read_bytes(), self.image)

    def results(self) -> list[Path]:
        return sorted(path for path in (self.at / "results").rglob("*") if path.is_file())

    def test_a_key_that_nobody_trusts(self) -> None:
        other = SigningKey.make(self.folder / "other").public
        self.refused(f"signed with the key {self.public}, which is not trusted here", other)
        self.assertNotIn("shared", [step["how"] for step in self.build(self.environment, self.second)["steps"]])

    def test_no_signature(self) -> None:
        for file in self.results():
            file.write_bytes(file.read_bytes().rpartition(b"\n")[0] + b"\n")
        self.refused("it is not signed")

    def test_a_signature_of_something_else(self) -> None:
        for file in self.results():
            data = file.read_bytes()
            file.write_bytes(data.replace(b'"seconds":', b'"seconds":1', 1))
        self.refused("its signature does not fit")

    def test_another_steps_result(self) -> None:
        files = self.results()
        contents = [file.read_bytes() for file in files]
        for file, data in zip(files, [*contents[1:], contents[0]], strict=True):
            file.write_bytes(data)
        self.refused("it is another step's result")

    def test_damaged_files_of_every_kind(self) -> None:
        for kind in ("objects", "trees", "bundles"):
            for cut in (False, True):
                files = sorted(path for path in (self.at / kind).rglob("*") if path.is_file())
                before = [file.read_bytes() for file in files]
                for file in files:
                    data = bytearray(file.read_bytes())
                    data[-6] ^= 1
                    file.write_bytes(data[: len(data) // 2] if cut else data)
                with self.subTest(kind=kind, cut=cut):
                    self.refused("it names")
                for file, data in zip(files, before, strict=True):
                    file.write_bytes(data)
                shutil.rmtree(self.folder / "second")
                shutil.copytree(self.root, self.second, ignore=shutil.ignore_patterns("out", ".yarrik"))

    def test_what_is_damaged_there_is_replaced_by_who_may_write(self) -> None:
        for words in ((), ("--replace",)):
            for kind in ("objects", "trees", "bundles"):
                for file in (self.at / kind).rglob("*.zst"):
                    file.write_bytes(b"damaged")
            if words:
                self.environment = self.settings("first", str(self.at), self.pushing())
                self.yarrik("cache", "push", *words, at=self.root)
            else:
                third = self.folder / "third/w"
                shutil.copytree(self.root, third, ignore=shutil.ignore_patterns("out", ".yarrik"))
                self.build(self.settings("third", str(self.at), self.pushing()), third)
            shutil.rmtree(self.folder / "second", ignore_errors=True)
            shutil.copytree(self.root, self.second, ignore=shutil.ignore_patterns("out", ".yarrik"))
            report = self.build(self.settings("second", str(self.at)), self.second)
            self.assertEqual((self.not_local(report), report["warnings"]), ([], []))

    def test_a_file_that_is_not_there(self) -> None:
        shutil.rmtree(self.at / "bundles")
        self.refused("what it names is not there")


class NothingTakesForeverOrMoreThanItSays(FolderTest):
    def test_who_dribbles_is_given_up_and_who_is_slow_to_begin_is_not(self) -> None:
        def dribbling() -> Iterator[bytes]:
            while True:
                time.sleep(0.02)
                yield b"x"

        def slow_to_begin() -> Iterator[bytes]:
            time.sleep(0.3)
            yield from [b"x" * 1000] * 5

        began = time.monotonic()
        with self.assertRaisesRegex(TooSlow, "less than 1000 bytes a second"):
            list(paced(dribbling, first=0.5, rate=1000))
        self.assertLess(time.monotonic() - began, 100)
        self.assertEqual(len(b"".join(paced(slow_to_begin, first=20, rate=1000))), 5000)
        with self.assertRaises(TooSlow):
            within(0.1, lambda: time.sleep(2))
        with self.assertRaisesRegex(ValueError, "as it was"):
            within(10, lambda: int("x") if False else (_ for _ in ()).throw(ValueError("as it was")))

    def test_an_object_may_not_grow_beyond_what_it_says(self) -> None:
        class Endless(FolderStorage):
            sent = 0

            def read(self, name: str, start: int = 0) -> Iterator[bytes]:
                if name.startswith("objects"):
                    while True:
                        Endless.sent += 1 << 16
                        yield bytes(1 << 16)
                yield from super().read(name, start)

        at = self.folder / "at"
        at.mkdir()
        key = SigningKey.make(self.folder / "key")
        store = Store(self.folder / "first")
        digest = store.put_bytes(os.urandom(300_000))
        Shared([SharedCache("x", FolderStorage(at), True, key, frozenset())], store).send(
            SharedCache("x", FolderStorage(at), True, key, frozenset()), "f" * 64, Result({"file": digest}))  # fmt: skip
        other = Shared([SharedCache("x", Endless(at), False, None, frozenset([key.public]))], Store(self.folder / "second"))
        self.assertIsNone(other.bring("f" * 64))
        self.assertLess(Endless.sent, 2_000_000)
        self.assertIn("larger than it says", other.troubles[0].what)

    def test_a_record_that_names_no_digest_leads_nowhere(self) -> None:
        at = self.folder / "at"
        key = SigningKey.make(self.folder / "key")
        self.write("secret", "x" * 64)
        for evil in ("../../secret", "/etc/passwd", "x" * 64, "A" * 64, ""):
            body = json.dumps({"fingerprint": "f" * 64, "outputs": {"file": {"digest": evil, "tree": False, "size": 64}},
                               "notes": [], "log": None, "seconds": 0.0}).encode()  # fmt: skip
            signed = body + f"\n{key.public} {key.sign(b'yarrik result 1' + bytes([10]) + body)}".encode()
            self.write(f"at/results/ff/{'f' * 64}", signed)
            other = Shared(
                [SharedCache("x", FolderStorage(at), False, None, frozenset([key.public]))], Store(self.folder / "second")
            )
            self.assertIsNone(other.bring("f" * 64), evil)
            self.assertIn("not a digest", other.troubles[0].what)


class AStoreThatDoesNotAnswer(SharingTest):
    def test_a_server_that_is_gone_costs_little_and_is_told_once(self) -> None:
        report = self.build(self.settings("first", "http://127.0.0.1:9", self.pushing()), self.root)
        self.assertTrue(report["ok"])
        self.assertEqual([one["code"] for one in report["warnings"]], ["CACHE-UNREACHABLE"])
        self.assertLess(report["seconds"], 250)

    def test_a_server_that_hangs_is_left_alone(self) -> None:
        class Hanging(http.server.BaseHTTPRequestHandler):
            asked = 0
            free = threading.Event()

            def do_GET(self) -> None:
                Hanging.asked += 1
                Hanging.free.wait(60)

            def log_message(self, *words: object) -> None:
                pass

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Hanging)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.addCleanup(Hanging.free.set)
        report = self.build(self.settings("first", f"http://127.0.0.1:{server.server_port}"), self.root)
        self.assertTrue(report["ok"])
        self.assertEqual([one["code"] for one in report["warnings"]], ["CACHE-UNREACHABLE"])
        self.assertLessEqual(Hanging.asked, 40)

    def test_a_network_folder_that_is_lost_comes_back_and_gets_what_is_missing(self) -> None:
        at = self.folder / "mounted"
        report = self.build(self.settings("first", str(at), self.pushing()), self.root)
        self.assertEqual([one["code"] for one in report["warnings"]], ["CACHE-UNREACHABLE"])
        self.assertFalse(at.exists(), "a folder that is not mounted must not be made")
        at.mkdir()
        self.assertIn("results sent", self.yarrik("cache", "push", at=self.root))
        self.assertEqual(self.not_local(self.build(self.settings("second", str(at)), self.second)), [])

    def test_offline_asks_folders_and_no_network(self) -> None:
        report = self.build(self.settings("first", "http://127.0.0.1:9", self.pushing()), self.root, "--offline")
        self.assertEqual(report["warnings"], [])
        at = self.folder / "shared"
        at.mkdir()
        self.yarrik_json("build", at=self.root)
        self.environment = self.settings("first", str(at), self.pushing())
        self.yarrik("cache", "push", at=self.root)
        self.assertEqual(self.not_local(self.build(self.settings("second", str(at)), self.second, "--offline")), [])


class WhoeverIsTiredOfSending(SharingTest):
    def test_ctrl_c_while_results_are_sent_leaves_the_image_and_the_rest_for_another_time(self) -> None:
        class Slow(http.server.BaseHTTPRequestHandler):
            free = threading.Event()

            def do_HEAD(self) -> None:
                Slow.free.wait(60)
                self.send_error(404)

            def do_GET(self) -> None:
                self.send_error(404)

            def log_message(self, *words: object) -> None:
                pass

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Slow)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        for end in (server.server_close, server.shutdown, Slow.free.set):
            self.addCleanup(end)
        environment = self.settings(
            "first", f"http://127.0.0.1:{server.server_port}", self.pushing().replace("push", 'time-out = "50 s"\npush')
        )
        file = Path(environment["YARRIK_SETTINGS"])
        file.write_text(file.read_text().replace('time-out = "2 s"\n', ""))
        process = subprocess.Popen([sys.executable, "-m", "yarrik", "build", "--json"], cwd=self.root, env=environment, stdin=subprocess.DEVNULL,
                                   stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
        assert process.stdout is not None
        for line in process.stdout:
            if json.loads(line)["event"] == "sending":
                break
        process.send_signal(signal.SIGINT)
        out, errors = process.communicate(timeout=60)
        report = json.loads(out.splitlines()[-1])
        self.assertEqual((process.returncode, report["event"], report["ok"]), (0, "end", True), errors)
        self.assertTrue((self.root / "out/p/p.img").exists())


class WhatIsPrivateStaysHere(SharingTest):
    def test_neither_it_nor_what_is_made_of_it_is_sent(self) -> None:
        at = self.folder / "shared"
        at.mkdir()
        word = "only-for-the-harbour-master"
        self.recipe(
            "secret",
            f"mkdir -p $DESTDIR/usr/share/x && echo {word} > $DESTDIR/usr/share/x/secret",
            package='[package.secret]\nfiles = ["**"]',
        )
        file = self.root / "s/recipes/secret/recipe.toml"
        file.write_text("private = true\n" + file.read_text())
        (self.root / "s/images/i.toml").write_text('packages = ["init", "secret"]\n')
        environment = self.settings("first", str(at), self.pushing())
        self.build(environment, self.root)
        self.yarrik("cache", "push", at=self.root)
        sent = [json.loads(path.read_bytes().partition(b"\n")[0]) for path in (at / "results").rglob("*") if path.is_file()]
        report = json.loads((self.root / "out/p/build.json").read_text())
        names = {step["fingerprint"]: step["step"] for step in report["steps"]}
        went = {names[one["fingerprint"]] for one in sent}
        self.assertIn("build init", went)
        self.assertFalse(
            went & {"prepare secret", "build secret", "stage secret", "split secret", "assemble p", "write p", "describe p"},
            went,
        )
        import zstandard

        for path in at.rglob("*.zst"):
            with zstandard.ZstdDecompressor().stream_reader(path.open("rb")) as reader:
                self.assertNotIn(word.encode(), reader.read(), path)


class Commands(SharingTest):
    def test_pull_takes_all_and_runs_nothing(self) -> None:
        at = self.folder / "shared"
        at.mkdir()
        self.environment = self.settings("second", str(at))
        self.assertIn("steps have to run here", self.yarrik("cache", "pull", at=self.second))
        self.assertFalse((self.second / "out").exists())
        self.build(self.settings("first", str(at), self.pushing()), self.root)
        self.environment = self.settings("second", str(at))
        told = self.yarrik_json("cache", "pull", at=self.second)
        self.assertEqual(told["missing"], 0)
        shutil.rmtree(at)
        self.assertEqual(self.not_local(self.build(self.environment, self.second, "--offline")), [])

    def test_status_tells_of_shared_caches(self) -> None:
        self.environment = self.settings("first", "http://127.0.0.1:9")
        told = self.yarrik_json("cache", "status", at=self.root)["shared"]
        self.assertEqual((told[0]["name"], told[0]["at"]), ("office", "http://127.0.0.1:9"))
        self.assertNotIn("answers", told[0]["answer"])

    def test_a_key_is_never_written_over(self) -> None:
        file = self.folder / "fresh/key"
        text = self.yarrik("cache", "new-key", file)
        self.assertIn('trusted-keys = ["ed25519:', text)
        self.assertEqual(file.stat().st_mode & 0o777, 0o600)
        before = file.read_bytes()
        self.assertIn("error KEY-UNWRITABLE", self.yarrik("cache", "new-key", file, code=2))
        self.assertEqual(file.read_bytes(), before)

    def test_settings_that_cannot_be(self) -> None:
        at = self.folder / "shared"
        for more, code in (
            ("push = true", "KEY-MISSING"),
            (f'push = true\nsigning-key = "{self.root}/yarrik.toml"', "KEY-UNREADABLE"),
        ):
            self.environment = self.settings("first", str(at), more)
            self.assertIn(f"error {code}", self.yarrik("build", code=2, at=self.root))
        self.environment = self.settings("first", "ftp://example.org/x")
        self.assertIn("error CACHE-PLACE", self.yarrik("build", code=2, at=self.root))
        self.environment = self.settings("first", str(at), trusted="secret")
        self.assertIn("not a public key", self.yarrik("build", code=2, at=self.root))


class ResultsTravel(FolderTest):
    def shared(self, store: Store, key: SigningKey) -> Shared:
        at = self.folder / "at"
        at.mkdir(exist_ok=True)
        return Shared([SharedCache("s", FolderStorage(at), True, key, frozenset([key.public]))], store)

    def test_large_files_small_ones_and_holes_arrive_as_they_were(self) -> None:
        key = SigningKey.make(self.folder / "key")
        tree_at = self.folder / "tree"
        (tree_at / "d").mkdir(parents=True)
        (tree_at / "d/small").write_bytes(b"x")
        (tree_at / "same").write_bytes(b"x")
        (tree_at / "large").write_bytes(os.urandom(SMALL + 1))
        (tree_at / "link").symlink_to("d/small")
        with (tree_at / "holes").open("wb") as file:
            file.truncate(64 << 20)
        here, there = Store(self.folder / "here"), Store(self.folder / "there")
        tree = here.snapshot(tree_at)
        single = here.put_bytes(b"alone")
        result = Result({"files": tree.digest, "one": single}, ("a note",), here.put_bytes(b"the log"), 3.5)
        self.assertTrue(self.shared(here, key).send_or_tell(self.shared(here, key).caches[0], "f" * 64, result))
        self.assertIsNone(self.shared(there, key).bring("e" * 64))
        self.assertEqual(self.shared(there, key).bring("f" * 64), result)
        self.assertTrue(there.whole(tree.digest))
        self.assertEqual(there.tree(tree.digest), tree)
        self.assertEqual(there.get_bytes(single), b"alone")
        self.assertLess(there.object_path(tree.by_path["holes"].content).stat().st_blocks, 1000)

    def test_a_broken_download_goes_on_and_one_that_does_not_fit_begins_anew(self) -> None:
        key = SigningKey.make(self.folder / "key")
        here = Store(self.folder / "here")
        digest = here.put_bytes(os.urandom(3 << 20))
        shared = self.shared(here, key)
        shared.send_or_tell(shared.caches[0], "f" * 64, Result({"one": digest}))
        whole = next((self.folder / "at/objects").rglob("*.zst")).read_bytes()
        for begun, least in ((whole[: 2 << 20], 0), (b"something else" * 1000, 3 << 20), (whole, 0)):
            there = Store(self.folder / f"there-{len(begun)}")
            part = there.root / "downloads" / f"{digest}.zst.part"
            part.parent.mkdir(parents=True)
            part.write_bytes(begun)
            shared = self.shared(there, key)
            self.assertIsNotNone(shared.bring("f" * 64), shared.troubles)
            self.assertTrue(there.whole(digest))
            self.assertFalse(part.exists())
            self.assertGreaterEqual(shared.traffic.brought_bytes, least)
            if least == 0:
                self.assertLess(shared.traffic.brought_bytes, len(whole) - len(begun) + 1)

    def test_a_small_file_that_would_become_a_huge_one_is_refused(self) -> None:
        import zstandard

        key = SigningKey.make(self.folder / "key")
        here, there = Store(self.folder / "here"), Store(self.folder / "there")
        digest = here.put_bytes(b"small")
        shared = self.shared(here, key)
        shared.send_or_tell(shared.caches[0], "f" * 64, Result({"one": digest}))
        file = next((self.folder / "at/objects").rglob("*.zst"))
        file.write_bytes(zstandard.compress(bytes(1 << 28)))
        shared = self.shared(there, key)
        self.assertIsNone(shared.bring("f" * 64))
        self.assertIn("larger than it says", shared.troubles[0].what)
        with self.assertRaises(MissingObject):
            there.get_bytes(digest)

    def test_signatures(self) -> None:
        key, other = SigningKey.make(self.folder / "a"), SigningKey.make(self.folder / "b")
        signature = key.sign(b"text")
        self.assertTrue(holds(key.public, signature, b"text"))
        for public, one, data in ((other.public, signature, b"text"), (key.public, signature, b"texd"), (key.public, "AAAA", b"text"),
                                  ("ed25519:none", signature, b"text"), (key.public, "no base64!", b"text")):  # fmt: skip
            self.assertFalse(holds(public, one, data))


if __name__ == "__main__":
    unittest.main()
