"""Catalogues: written from shelves, searched beside the workspace, and shelves added out of them with all that they need."""

import functools
import http.server
import json
import os
import shutil
import subprocess
import threading
import tomllib
import unittest
from pathlib import Path

from tests.support import WorkspaceTest
from yarrik.errors import YarrikError
from yarrik.model import Catalogue, Catalogues, find, read_catalogue

DEMO = Path(__file__).parent.parent / "src/yarrik/demo/data"


class ServedFolder:
    """A folder behind an HTTP server on this machine; `refuse` makes it answer 503."""

    def __init__(self, folder: Path) -> None:
        owner = self
        self.refuse = False

        class Quiet(http.server.SimpleHTTPRequestHandler):
            def log_message(self, *words: object) -> None:
                pass

            def do_GET(self) -> None:
                if owner.refuse:
                    self.send_error(503)
                else:
                    super().do_GET()

        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Quiet, directory=str(folder)))
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self.server.server_port}"


class CatalogueTest(WorkspaceTest):
    """Beside the workspace are more shelves, `wind` which needs `sums`, and a catalogue of them."""

    def setUp(self) -> None:
        super().setUp()
        self.environment["YARRIK_SETTINGS"] = str(self.folder / "settings.toml")
        self.more("sums", "Sums of many readings", "libsum", "Adds readings up")
        self.more(
            "wind",
            "Wind on the pier",
            "windvane",
            "Where the wind comes from",
            'needs = ["sums"]\n[shelf.works-with]\nsums = ">= 2"\n',
        )
        self.more("rain", "Rain in the gutter", "raincan", "How much rain fell")
        self.yarrik("catalogue", "make", "more", "--out", "more/catalogue.toml")
        self.yarrik("settings", "set", "catalogues=more/catalogue.toml")

    def more(self, shelf: str, summary: str, recipe: str, what: str, rest: str = "") -> None:
        self.write(f"more/{shelf}/shelf.toml", f'[shelf]\nname = "{shelf}"\nsummary = "{summary}"\nversion = "2.1"\n{rest}')
        self.write(
            f"more/{shelf}/recipes/{recipe}/recipe.toml",
            f'summary = "{what}"\nversion = "1"\nlicence = "MIT"\n[[source]]\npath = "src"\n[build]\nusing = "plain"\n'
            f"commands = ['mkdir -p $DESTDIR/etc && echo {recipe} > $DESTDIR/etc/{recipe}']\n"
            f'[options.loud]\nsummary = "Says more of it"\n[package.{recipe}]\nfiles = ["/etc/*"]\nprovides = ["{shelf}-meter"]\n',
        )

        self.write(f"more/{shelf}/recipes/{recipe}/src/readme", what)

    def shelves(self) -> list[str]:
        return [shelf["name"] for shelf in tomllib.loads((self.root / "yarrik.toml").read_text())["shelf"]]

    def found(self, *words: str) -> list[tuple[str, str, str]]:
        return [(one["kind"], one["name"], one["shelf"]) for one in self.yarrik_json("find", *words, at=self.root)]


class Searching(CatalogueTest):
    def test_names_words_kinds_roles_and_options_of_shelves_that_could_be_added(self) -> None:
        self.assertIn(("recipe", "windvane", "wind"), self.found("wind"))
        self.assertEqual(self.found("gutter"), [("shelf", "rain", "rain")])
        self.assertEqual(self.found("fell", "rain"), [("recipe", "raincan", "rain")])
        self.assertEqual(self.found("rain-meter"), [("role", "rain-meter", "rain")])
        self.assertEqual(self.found("loud", "--kind", "option")[0][0], "option")
        self.assertEqual(self.found("wind", "--kind", "recipe"), [("recipe", "windvane", "wind")])
        self.assertIn("error KIND-UNKNOWN", self.yarrik("find", "x", "--kind", "recipes", code=2, at=self.root))
        self.assertRegex(self.yarrik("find", "windvane", at=self.root), r"shelf wind(.|\n)*next: yarrik shelf add wind")

    def test_a_slip_finds_the_nearest_names_and_nothing_finds_nothing(self) -> None:
        self.assertEqual(self.found("widnvane"), [("recipe", "windvane", "wind")])
        self.assertIn(("recipe", "windvane", "wind"), self.found("windvan"))  # a part of the name, and no slip
        self.assertIn("error NOT-FOUND", self.yarrik("find", "submarine", code=2, at=self.root))

    def test_what_is_here_comes_first_and_a_shelf_that_is_here_is_not_offered(self) -> None:
        self.recipe("windmill", "true")
        self.assertEqual([one[1] for one in self.found("wind", "--kind", "recipe")], ["windmill", "windvane"])
        self.yarrik("shelf", "add", "wind", "--yes", at=self.root)
        self.assertEqual({shelf for _, _, shelf in self.found("wind")}, {""})

    def test_outside_of_a_workspace_the_catalogues_of_the_settings_count(self) -> None:
        said = self.yarrik("find", "windvane", at=self.folder)
        self.assertIn("shelf wind", said)
        (self.folder / "settings.toml").unlink()
        # What comes with Yarrik is known everywhere.
        self.assertIn("error NOT-FOUND", self.yarrik("find", "windvane", code=2, at=self.folder))
        self.assertIn("shelf commons", self.yarrik("find", "zlib", at=self.folder))

    def test_the_workspace_names_catalogues_too_and_the_first_one_counts(self) -> None:
        self.write(
            "w/own.toml",
            '[catalogue]\nname = "own"\n[[shelf]]\nname = "wind"\nsummary = "ours"\ngit = "file:///nowhere/wind"\n',
        )
        text = (self.root / "yarrik.toml").read_text().replace('name = "test"', 'name = "test"\ncatalogues = ["own.toml"]')
        self.write("w/yarrik.toml", text)
        listed = self.yarrik_json("catalogue", "list", at=self.root)["catalogues"]
        self.assertEqual([one["name"] for one in listed], ["own", "more", "commons"])
        self.assertIn("error SHELF-UNREACHABLE", self.yarrik("shelf", "add", "wind", code=1, at=self.root))


class Adding(CatalogueTest):
    def test_a_shelf_comes_with_what_it_needs_before_it_once_that_is_agreed_to(self) -> None:
        before = (self.root / "yarrik.toml").read_bytes()
        said = self.yarrik("shelf", "add", "wind", code=2, at=self.root)
        self.assertRegex(said, r"error SHELF-NEEDS: wind needs sums(.|\n)*--yes")
        self.assertEqual((self.root / "yarrik.toml").read_bytes(), before)
        self.yarrik("shelf", "add", "wind", "--yes", at=self.root)
        self.assertEqual(self.shelves(), ["s", "sums", "wind"])
        self.write("w/s/images/i.toml", 'packages = ["init", "windvane"]\n')
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/windvane"), "windvane\n")
        self.assertIn("error SHELF-TWICE", self.yarrik("shelf", "add", "wind", code=2, at=self.root))

    def test_a_terminal_is_asked(self) -> None:
        self.at_terminal("shelf", "add", "wind", at=self.root, types=b"n\n")
        self.assertEqual(self.shelves(), ["s"])
        self.at_terminal("shelf", "add", "wind", at=self.root, types=b"y\n")
        self.assertEqual(self.shelves(), ["s", "sums", "wind"])

    def test_find_adds_the_shelf_of_the_best_match(self) -> None:
        self.yarrik("find", "raincan", "--add", at=self.root)
        self.assertEqual(self.shelves(), ["s", "rain"])
        self.assertIn("all that was found is here", self.yarrik("find", "raincan", "--add", code=2, at=self.root))

    def test_plain_folders_are_added_by_their_path(self) -> None:
        self.yarrik("shelf", "add", "../more/rain", at=self.root)
        self.assertEqual(
            tomllib.loads((self.root / "yarrik.toml").read_text())["shelf"][1], {"name": "rain", "path": "../more/rain"}
        )
        said = self.yarrik("shelf", "add", "../more/sums", "--tag", "v1", code=2, at=self.root)
        self.assertIn("is a folder, which has no revisions", said)
        self.assertIn("did you mean `rain`?", self.yarrik("shelf", "add", "rian", code=2, at=self.root))

    def test_a_need_that_no_catalogue_has_is_told_and_one_that_goes_in_a_circle_ends(self) -> None:
        self.write("more/rain/shelf.toml", '[shelf]\nname = "rain"\nneeds = ["sky", "wind"]\n')
        self.write("more/sums/shelf.toml", '[shelf]\nname = "sums"\nversion = "2"\nneeds = ["rain"]\n')
        said = self.yarrik("shelf", "add", "rain", "--yes", at=self.root)
        self.assertEqual(self.shelves(), ["s", "sums", "wind", "rain"])
        self.assertIn("needed, and in no catalogue: sky", said)

    def test_a_shelf_that_calls_itself_otherwise_is_not_the_one_that_was_meant(self) -> None:
        self.write("more/rain/shelf.toml", '[shelf]\nname = "snow"\n')
        self.assertIn("calls itself `snow`, not `rain`", self.yarrik("shelf", "add", "rain", code=2, at=self.root))
        self.assertEqual(self.shelves(), ["s"])


class WhatIsMissingIsNamed(CatalogueTest):
    """Mistakes 4, 6 and 20: shelves and packages that are not here, and versions that do not fit."""

    def test_a_package_a_tool_and_an_option_of_a_recipe_that_a_catalogue_has(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init", "windvane"]\n')
        said = self.yarrik("check", code=2, at=self.root)
        self.assertRegex(
            said,
            r"RECIPE-UNKNOWN: no shelf carries a recipe or package `windvane`(.|\n)*shelf wind\n +next +yarrik shelf add wind",
        )
        self.write("w/s/images/i.toml", 'packages = ["init"]\n')
        said = self.yarrik("check", "--set", "options.raincan.loud=true", code=2, at=self.root)
        self.assertRegex(said, "next +yarrik shelf add rain")
        self.write("w/s/images/i.toml", 'packages = ["init", "tool-user"]\n')
        self.recipe("tool-user", "true", more='tools = ["raincan"]')
        self.assertRegex(self.yarrik("check", code=2, at=self.root), "next +yarrik shelf add rain")

    def test_a_shelf_a_board_an_image_and_what_is_extended(self) -> None:
        self.write("w/s/shelf.toml", '[shelf]\nname = "s"\nneeds = ["wind"]\n')
        self.assertRegex(self.yarrik("check", code=2, at=self.root), r"error SHELF-MISSING(.|\n)*next +yarrik shelf add wind")
        self.write("w/s/shelf.toml", '[shelf]\nname = "s"\n')
        self.write("more/rain/images/gutter.toml", 'packages = ["init"]\n')
        self.yarrik("catalogue", "make", "more", "--out", "more/catalogue.toml")
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "gutter"\n')
        self.assertRegex(self.yarrik("check", code=2, at=self.root), r"error IMAGE-UNKNOWN(.|\n)*next +yarrik shelf add rain")
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n')
        self.write("w/s/images/i.toml", 'extends = "gutter"\n')
        self.assertRegex(self.yarrik("check", code=2, at=self.root), r"error EXTENDS-UNKNOWN(.|\n)*next +yarrik shelf add rain")

    def test_versions_of_shelves_that_do_not_fit_each_other(self) -> None:
        self.yarrik("shelf", "add", "wind", "--yes", at=self.root)
        self.yarrik("check", at=self.root)
        for version in ('version = "1.9"', "", 'version = "of last week"'):
            self.write("more/sums/shelf.toml", f'[shelf]\nname = "sums"\n{version}\n')
            said = self.yarrik("check", code=2, at=self.root)
            self.assertRegex(
                said, r"error SHELF-VERSION: shelf `wind` works with `sums` >= 2(.|\n)*wind/shelf.toml:\d+", version
            )
        self.write("more/wind/shelf.toml", '[shelf]\nname = "wind"\n[shelf.works-with]\nsums = "> = 2"\n')
        self.assertIn("error VALUE-UNFIT", self.yarrik("check", code=2, at=self.root))

    def test_without_a_catalogue_the_message_is_as_before(self) -> None:
        (self.folder / "settings.toml").unlink()
        self.write("w/s/images/i.toml", 'packages = ["init", "windvane"]\n')
        self.assertNotIn("shelf add", self.yarrik("check", code=2, at=self.root))


class CataloguesFromServers(CatalogueTest):
    def setUp(self) -> None:
        super().setUp()
        for name in ("wind", "sums"):
            folder = self.folder / "git" / name
            shutil.copytree(self.folder / "more" / name, folder)
            for words in (
                ["init", "-q", "-b", "main"],
                ["add", "-A"],
                ["-c", "user.name=t", "-c", "user.email=t@example.org", "commit", "-q", "-m", "x"],
            ):
                subprocess.run(
                    ["git", "-C", str(folder), *words], check=True, env={**os.environ, "GIT_CONFIG_GLOBAL": os.devnull}
                )
        (self.folder / "served").mkdir()
        for name in ("wind", "sums"):
            self.yarrik(
                "catalogue", "make", f"git/{name}", "--git", f"file://{self.folder}/git/{name}", "--out", f"{name}.json"
            )
        both = [json.loads((self.folder / f"{name}.json").read_text())["shelf"][0] for name in ("wind", "sums")]
        self.write("served/catalogue.json", json.dumps({"catalogue": {"name": "far"}, "shelf": both}))
        self.server = ServedFolder(self.folder / "served")
        self.addCleanup(self.server.server.shutdown)
        self.yarrik("settings", "set", f"catalogues={self.server.url}/catalogue.json")

    def test_it_is_downloaded_once_used_without_the_server_and_renewed_when_asked(self) -> None:
        self.assertEqual(self.found("windvane", "--kind", "recipe"), [("recipe", "windvane", "wind")])
        self.server.refuse = True
        self.assertEqual(self.found("windvane", "--kind", "recipe"), [("recipe", "windvane", "wind")])
        said = self.yarrik("catalogue", "renew", code=1, at=self.root)
        self.assertIn("answered 503", said)
        self.assertEqual(self.found("windvane", "--kind", "recipe"), [("recipe", "windvane", "wind")])
        self.server.refuse = False
        self.write("served/catalogue.json", '{"catalogue": {"name": "far"}, "shelf": []}')
        self.yarrik("catalogue", "renew", at=self.root)
        self.assertIn("error NOT-FOUND", self.yarrik("find", "windvane", code=2, at=self.root))

    def test_shelves_from_git_are_cloned_and_locked_with_their_needs(self) -> None:
        self.yarrik("shelf", "add", "wind", "--yes", at=self.root)
        self.assertEqual(self.shelves(), ["s", "sums", "wind"])
        self.assertEqual(sorted(tomllib.loads((self.root / "yarrik.lock").read_text())["commits"]), ["sums", "wind"])
        self.write("w/s/images/i.toml", 'packages = ["init", "windvane"]\n')
        self.yarrik("build", "--locked", code=2, at=self.root)
        self.yarrik("build", at=self.root)

    def test_a_folder_of_a_downloaded_catalogue_is_nowhere_and_damage_is_told(self) -> None:
        self.write("served/catalogue.json", '{"catalogue": {"name": "far"}, "shelf": [{"name": "wind", "path": "wind"}]}')
        self.yarrik("catalogue", "renew", at=self.root)
        self.assertIn("does not say where the shelf `wind` is", self.yarrik("shelf", "add", "wind", code=2, at=self.root))
        for text, code in (('{"catalogue": {', "CATALOGUE-UNREADABLE"), ("{" * 5000, "CATALOGUE-UNREADABLE"), ("[catalogue", "FILE-NOT-TOML"),
                           ('{"catalogue": {"name": "x"}, "shelf": [{"name": "../w"}]}', "VALUE-UNFIT"),
                           ('{"catalogue": {"name": "x"}, "shelf": [{"name": "w", "summary": "a\\u001b[2Jb"}]}', "VALUE-UNFIT"),
                           ('{"catalogue": {"name": "x"}, "shelf": [{"name": "w", "git": "ext::sh -c id"}]}', "VALUE-UNFIT"),
                           ('{"catalogue": {"name": "x"}, "shelf": [{"name": "w", "path": "/etc"}]}', "VALUE-UNFIT"),
                           ('{"catalogue": {"name": "x"}, "shelf": [{"name": "w", "branch": "--upload-pack=id"}]}', "VALUE-UNFIT")):  # fmt: skip
            self.write("served/catalogue.json", text)
            self.assertIn(f" {code}:", self.yarrik("catalogue", "renew", code=1, at=self.root), text)


class TheCatalogueOfTheDemo(unittest.TestCase):
    def test_it_is_what_its_shelves_hold(self) -> None:
        test = WorkspaceTest()
        test.setUp()
        self.addCleanup(test.doCleanups)
        shutil.copytree(DEMO / "more-shelves", test.folder / "more-shelves")
        made = test.folder / "more-shelves/catalogue.toml"
        test.yarrik(
            "catalogue",
            "make",
            ".",
            "--name",
            "harbour-more",
            "--summary",
            "Small shelves for gauges with more to do",
            at=made.parent,
        )
        self.assertEqual(made.read_text(), (DEMO / "more-shelves/catalogue.toml").read_text(),
                         "in src/yarrik/demo/data/more-shelves: yarrik catalogue make . --name harbour-more --summary …")  # fmt: skip
        catalogue = read_catalogue(made.read_bytes(), made, "it", downloaded=False)
        self.assertGreaterEqual(len(catalogue.value.shelf), 6)

    def test_every_one_of_its_shelves_builds(self) -> None:
        test = WorkspaceTest()
        test.setUp()
        self.addCleanup(test.doCleanups)
        shutil.copytree(DEMO / "more-shelves", test.root / "more-shelves")
        catalogue = tomllib.loads((DEMO / "more-shelves/catalogue.toml").read_text())
        test.yarrik("settings", "set", "--here", "catalogues=more-shelves/catalogue.toml", at=test.root)
        for shelf in catalogue["shelf"]:
            if shelf["name"] not in (test.root / "yarrik.toml").read_text():
                test.yarrik("shelf", "add", shelf["name"], "--yes", at=test.root)
        recipes = [one["name"] for shelf in catalogue["shelf"] for one in shelf["holds"] if one["kind"] == "recipe"]
        test.write("w/s/images/i.toml", f"packages = {['init', *recipes]}\n".replace("'", '"'))
        test.yarrik("build", at=test.root)
        said = test.yarrik("inspect", "out/p/p.img", "/usr/bin", at=test.root)
        for name in recipes:
            if not name.startswith("lib"):
                self.assertIn(f" /usr/bin/{name}\n", said)


class TheSearchItself(unittest.TestCase):
    def catalogue(self, text: str) -> Catalogues:
        return Catalogues((read_catalogue(text.encode(), Path("c.toml"), "c.toml", downloaded=False),))

    def test_ranks(self) -> None:
        known = self.catalogue(
            '[catalogue]\nname = "c"\n[[shelf]]\nname = "s"\npath = "s"\nholds = [\n'
            '{kind = "recipe", name = "tide"}, {kind = "recipe", name = "tidelog"}, {kind = "recipe", name = "libtide"},\n'
            '{kind = "recipe", name = "gauge", summary = "of the tide"}, {kind = "recipe", name = "tied"}]\n'
        )
        found = [one.name for one in find(None, ["tide"], known)]
        self.assertEqual(found, ["tide", "tidelog", "libtide", "gauge"])
        self.assertEqual([one.name for one in find(None, ["the", "gauge"], known)], ["gauge"])
        self.assertEqual(find(None, ["harbour"], known), [])

    def test_where_a_shelf_is(self) -> None:
        catalogue = self.catalogue('[catalogue]\nname = "c"\n[[shelf]]\nname = "s"\npath = "s"\n').known[0]
        self.assertEqual(catalogue.place_of(catalogue.value.shelf[0]), "s")
        self.assertEqual(Catalogue("c", None, catalogue.value).place_of(catalogue.value.shelf[0]), "")
        with self.assertRaises(YarrikError):
            read_catalogue(b"[1]", Path("c.json"), "c.json", downloaded=False)
