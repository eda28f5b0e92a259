"""Terms that recipes and shelves carry: nothing runs before they are accepted, and a changed text asks again."""

import hashlib
import json
import shutil
import tomllib

from tests.support import WorkspaceTest

TEXT = "You may use it on piers only.\n"
DIGEST = hashlib.sha256(TEXT.encode()).hexdigest()


class TermsTest(WorkspaceTest):
    """Mistake 3: vendor terms not accepted, or their text changed since they were accepted."""

    def setUp(self) -> None:
        super().setUp()
        self.settings = self.folder / "settings.toml"
        self.environment["YARRIK_SETTINGS"] = str(self.settings)
        self.recipe("modem", "mkdir -p $DESTDIR/etc && cp modem.bin $DESTDIR/etc", {"modem.bin": "x"})
        file = self.root / "s/recipes/modem/recipe.toml"
        file.write_text('terms = "TERMS.txt"\n' + file.read_text())
        self.write("w/s/recipes/modem/TERMS.txt", TEXT)
        self.write("w/s/images/i.toml", 'packages = ["init", "modem"]\n')

    def stopped(self, code: str, *words: str) -> str:
        for command in ("check", "build", "fetch", "prove"):
            said = self.yarrik(command, *words, at=self.root, code=2)
            self.assertIn(f"error {code}: ", said, command)
        self.assertFalse((self.root / "out").exists() and not words)
        return said

    def accept(self) -> None:
        self.yarrik("terms", "accept", "modem", "--digest", DIGEST, at=self.root)

    def test_nothing_runs_before_they_are_accepted_and_a_changed_text_asks_again(self) -> None:
        said = self.stopped("TERMS-OPEN")
        self.assertRegex(said, r"where +s/recipes/modem/recipe.toml:1(.|\n)*next +yarrik terms show modem")
        self.assertEqual(list((self.folder / "cache").glob("results/*")), [])
        self.accept()
        self.yarrik("build", at=self.root)
        shutil.rmtree(self.root / "out")
        self.write("w/s/recipes/modem/TERMS.txt", TEXT + "And on Mondays.\n")
        self.assertIn("have changed since", self.stopped("TERMS-CHANGED"))
        self.write("w/s/recipes/modem/TERMS.txt", TEXT)
        self.yarrik("build", at=self.root)

    def test_a_product_without_it_is_not_stopped(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init"]\n')
        self.yarrik("build", at=self.root)
        self.assertIn(
            "error TERMS-OPEN", self.yarrik("check", "--set", 'image.packages=["init","modem"]', code=2, at=self.root)
        )
        self.yarrik("plan", "--set", 'image.packages=["init","modem"]', at=self.root)  # it runs nothing

    def test_terms_of_a_shelf_come_by_a_board_a_variant_or_an_amendment(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init"]\n')
        for place, text in (("boards/v.toml", 'extends = "b"\n'), ("variants/v.toml", 'summary = "x"\n'),
                            ("amendments/v.toml", 'image = "i"\n[set]\nsummary = "x"\n')):  # fmt: skip
            shutil.rmtree(self.root / "vendor", ignore_errors=True)
            self.write("w/vendor/shelf.toml", '[shelf]\nname = "vendor"\nterms = "TERMS"\n')
            self.write("w/vendor/TERMS", "Ours.\n")
            self.write(
                "w/yarrik.toml",
                '[workspace]\nname = "w"\n[[shelf]]\nname = "s"\npath = "s"\n[[shelf]]\nname = "vendor"\npath = "vendor"\n',
            )
            if "amend" not in place:
                self.yarrik("check", at=self.root)
            self.write(f"w/vendor/{place}", text)
            asked = ["--set", "product.board=v"] if "boards" in place else ["--with", "v"] if "variants" in place else []
            said = self.yarrik("check", *asked, code=2, at=self.root)
            self.assertRegex(said, r"error TERMS-OPEN: the terms of the shelf `vendor`(.|\n)*vendor/shelf.toml:3", place)

    def test_unattended_builds_name_the_digest(self) -> None:
        for words in (f"modem={DIGEST}", f"other=1,recipe:modem={DIGEST}"):
            self.environment["YARRIK_TERMS"] = words
            self.yarrik("check", at=self.root)
        for words in ("modem", "modem=", f"modem={DIGEST[:-1]}", f"shelf:modem={DIGEST}", DIGEST):
            self.environment["YARRIK_TERMS"] = words
            self.assertIn("error TERMS-OPEN", self.yarrik("check", code=2, at=self.root), words)
        self.assertFalse(self.settings.exists())

    def test_lock_and_manifests_say_them_and_locked_sees_another_text(self) -> None:
        self.accept()
        self.yarrik("build", at=self.root)
        manifest = json.loads((self.root / "out/p/packages.json").read_text())
        self.assertIn({"kind": "terms", "name": "recipe modem", "revision": DIGEST}, manifest["provenance"])
        self.assertEqual(
            tomllib.loads((self.root / "yarrik.lock").read_text())["product"]["p"]["terms"], {"recipe modem": DIGEST}
        )
        self.yarrik("build", "--locked", at=self.root)
        self.write("w/s/recipes/modem/TERMS.txt", "Other.\n")
        self.environment["YARRIK_TERMS"] = f"modem={hashlib.sha256(b'Other.' + bytes([10])).hexdigest()}"
        self.assertIn("terms of the recipe modem", self.yarrik("build", "--locked", code=2, at=self.root))

    def test_a_workspace_cannot_accept_them_for_its_user(self) -> None:
        self.write("w/yarrik.local.toml", f'[settings.terms."recipe modem"]\nsha256 = "{DIGEST}"\ndate = "2026-01-01"\n')
        self.assertIn("error TERMS-OPEN", self.yarrik("check", code=2, at=self.root))

    def test_reading_and_accepting(self) -> None:
        self.assertRegex(self.yarrik("terms", "list", at=self.root), r"open +recipe +modem(.|\n)*next: yarrik terms show modem")
        self.assertRegex(
            self.yarrik("terms", "show", "modem", at=self.root), f"You may use it on piers only(.|\n)*sha256 {DIGEST}"
        )
        self.assertRegex(self.yarrik("terms", "accept", "modem", code=2, at=self.root), f"--digest {DIGEST}")
        self.assertIn("error TERMS-DIGEST", self.yarrik("terms", "accept", "modem", "--digest", "0" * 64, code=2, at=self.root))
        said = self.yarrik("terms", "show", "moden", code=2, at=self.root)
        self.assertRegex(said, r"error TERMS-UNKNOWN(.|\n)*did you mean `modem`\?")
        self.write("settings.toml", "# mine\njobs = 2\n")
        self.accept()
        text = self.settings.read_text()
        self.assertIn("# mine", text)
        self.assertEqual(tomllib.loads(text)["terms"]["recipe modem"]["sha256"], DIGEST)
        self.assertEqual(self.yarrik_json("terms", "list", "--product", "p", at=self.root)["terms"][0]["state"], "accepted")

    def test_at_a_terminal_the_name_is_typed(self) -> None:
        self.assertIn(b"not accepted", self.at_terminal("terms", "accept", "modem", at=self.root, types=b"y\n"))
        self.assertFalse(self.settings.exists())
        seen = self.at_terminal("terms", "accept", "modem", at=self.root, types=b"modem\n")
        self.assertIn(b"You may use it on piers only.", seen)
        self.yarrik("check", at=self.root)

    def test_texts_that_cannot_be_read(self) -> None:
        file = self.root / "s/recipes/modem/TERMS.txt"
        secret = self.write("secret", "secret")
        for make in (lambda: None, lambda: file.symlink_to(secret), file.mkdir):
            shutil.rmtree(file, ignore_errors=True)
            file.unlink(missing_ok=True)
            make()
            said = self.yarrik("check", code=2, at=self.root)
            self.assertIn("error TERMS-UNREADABLE", said)
            self.assertNotIn("secret:", said)
        recipe = self.root / "s/recipes/modem/recipe.toml"
        recipe.write_text(recipe.read_text().replace("TERMS.txt", "../../../../secret"))
        self.assertIn("error VALUE-UNFIT", self.yarrik("check", code=2, at=self.root))


class Diversions(WorkspaceTest):
    """Sources of a recipe that are taken from a folder or repository of one's own."""

    def setUp(self) -> None:
        super().setUp()
        self.environment["YARRIK_SETTINGS"] = str(self.folder / "settings.toml")
        self.recipe("tide", "mkdir -p $DESTDIR/etc && cp text $DESTDIR/etc/text", {"text": "theirs\n"})
        self.write("w/s/images/i.toml", 'packages = ["init", "tide"]\n')
        self.write("mine/text", "mine\n")

    def use(self, *words: str) -> None:
        self.yarrik("settings", "set", *words, at=self.folder)

    def test_a_folder_takes_the_place_of_the_sources_until_it_is_taken_out(self) -> None:
        self.use("use.tide.path=mine")  # from the current folder, wherever the settings are
        said = self.yarrik("build", at=self.root)
        self.assertIn("tide is built from", said)
        self.assertEqual(self.content("/etc/text"), "mine\n")
        self.assertIn("tide is built from", self.yarrik("build", at=self.root))  # at every build
        manifest = json.loads((self.root / "out/p/packages.json").read_text())["provenance"]
        self.assertEqual([one["name"] for one in manifest if one["kind"] == "diversion"], ["tide"])
        self.assertNotIn(str(self.folder), json.dumps(manifest))
        self.assertIn("error DIVERSION-LOCKED", self.yarrik("build", "--locked", code=2, at=self.root))
        self.write("mine/text", "changed\n")
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/text"), "changed\n")
        self.use("use.tide.path=")
        self.assertEqual((self.folder / "settings.toml").read_text().strip(), "")
        self.assertNotIn("is built from", self.yarrik("build", "--locked", at=self.root))
        self.assertEqual(self.content("/etc/text"), "theirs\n")

    def test_a_branch_of_another_repository(self) -> None:
        self.tool("git", "-C", self.folder / "mine", "init", "-q", "-b", "dev")
        who = ("-c", "user.name=t", "-c", "user.email=t@example.org")
        self.tool("git", "-C", self.folder / "mine", "add", "-A")
        self.tool("git", "-C", self.folder / "mine", *who, "commit", "-q", "-m", "one")
        self.use(f"use.tide.git=file://{self.folder}/mine", "use.tide.branch=dev")
        self.assertIn("SOURCE-OFFLINE", self.yarrik("build", "--offline", code=2, at=self.root))
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/text"), "mine\n")
        self.write("mine/text", "second\n")
        self.tool("git", "-C", self.folder / "mine", *who, "commit", "-q", "-a", "-m", "two")
        self.assertIn("nothing to do", self.yarrik("build", "--offline", at=self.root))
        self.yarrik("fetch", at=self.root)
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/text"), "second\n")
        self.write("w/.yarrik/diverted/tide/text", "work\n")
        self.assertIn("error DIVERSION-WORK", self.yarrik("fetch", code=2, at=self.root))
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/text"), "work\n")

    def test_what_is_wrong_is_told(self) -> None:
        self.write("settings.toml", '[use.tide]\npath = "mien"\n')
        self.assertRegex(self.yarrik("check", code=2, at=self.root), r"error DIVERSION-MISSING(.|\n)*mine")
        for text in (
            "[use.tide]\n",
            '[use.tide]\npath = "mine"\ngit = "https://example.org/x.git"\n',
            '[use.tide]\npath = "mine"\nbranch = "x"\n',
        ):
            self.write("settings.toml", text)
            self.assertIn("error DIVERSION-FORM", self.yarrik("check", code=2, at=self.root))
        self.write("settings.toml", '[use.tied]\npath = "mine"\n')
        self.assertRegex(self.yarrik("check", at=self.root), r"DIVERSION-UNKNOWN(.|\n)*did you mean `tide`")
        self.write("settings.toml", '[use.tide]\ngit = "ext::sh"\n')
        self.assertIn("error VALUE-UNFIT", self.yarrik("check", code=2, at=self.root))

    def test_a_workspaces_own_settings_go_before_the_users(self) -> None:
        self.use("use.tide.path=mine")
        self.write("other/text", "other\n")
        self.yarrik("settings", "set", "--here", "use.tide.path=../other", at=self.root)
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/text"), "other\n")


class ShelvesInManifests(WorkspaceTest):
    def test_name_and_version(self) -> None:
        self.write("w/s/shelf.toml", '[shelf]\nname = "s"\nversion = "3"\n')
        self.yarrik("build", at=self.root)
        manifest = json.loads((self.root / "out/p/packages.json").read_text())["provenance"]
        self.assertEqual(manifest, [{"kind": "shelf", "name": "s", "version": "3"}])


class ProxiesOfTheSettings(WorkspaceTest):
    def test_downloads_go_through_it_unless_the_environment_or_a_host_says_otherwise(self) -> None:
        import http.server
        import threading

        asked: list[str] = []

        class Proxy(http.server.BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                asked.append(self.path)
                self.send_error(404)

            def log_message(self, *words: object) -> None:
                pass

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Proxy)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.shutdown)
        self.environment["YARRIK_SETTINGS"] = str(self.folder / "settings.toml")
        for name in ("http_proxy", "HTTP_PROXY", "no_proxy", "NO_PROXY", "https_proxy", "HTTPS_PROXY"):
            self.environment.pop(name, None)
        self.yarrik("settings", "set", f"proxies.http=http://127.0.0.1:{server.server_port}")
        self.recipe("far", "true")
        file = self.root / "s/recipes/far/recipe.toml"
        file.write_text(
            file.read_text().replace('path = "src"', f'url = "http://far.invalid/far-1.tar.gz"\nsha256 = "{"0" * 64}"')
        )
        self.write("w/s/images/i.toml", 'packages = ["init", "far"]\n')
        self.assertIn("answered 404", self.yarrik("fetch", code=1, at=self.root))
        self.assertEqual(set(asked), {"http://far.invalid/far-1.tar.gz"})
        asked.clear()
        self.yarrik("settings", "set", "proxies.direct=far.invalid")
        self.assertNotIn("answered 404", self.yarrik("fetch", code=1, at=self.root))
        self.assertEqual(asked, [])
        self.environment["http_proxy"] = "http://127.0.0.1:9"
        self.yarrik("settings", "set", "proxies.direct=")
        self.yarrik("fetch", code=1, at=self.root)
        self.assertEqual(asked, [])
