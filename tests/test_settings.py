"""Settings of a person or machine: shown with their lines, changed without losing comments, never taken when they do not fit."""

import json
import tomllib
import unittest

from tests.support import WorkspaceTest


class SettingsTest(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.file = self.folder / "home/settings.toml"
        self.environment["YARRIK_SETTINGS"] = str(self.file)

    def settings(self, *words: str, code: int = 0) -> str:
        return self.yarrik("settings", *words, at=self.root, code=code)


class SettingsAreShownAndChanged(SettingsTest):
    def test_nothing_is_set_at_first_and_the_file_appears_with_the_first_one(self) -> None:
        self.assertIn("nothing is set", self.settings("show"))
        self.settings("set", "jobs=3", "redirect-hosts=a.example, b.example")
        self.assertEqual(tomllib.loads(self.file.read_text()), {"jobs": 3, "redirect-hosts": ["a.example", "b.example"]})
        said = self.settings("show")
        self.assertRegex(said, r"jobs +3 +\S*settings\.toml:1")
        self.assertRegex(said, r"redirect-hosts +a\.example, b\.example +\S*settings\.toml:2")
        self.assertRegex(self.yarrik("settings", "show"), "jobs +3")  # outside of any workspace

    def test_the_workspace_s_own_have_the_last_word_and_count(self) -> None:
        self.settings("set", "jobs=3", "cache=/nowhere")
        self.settings("set", "--here", "jobs=1")
        lines = json.loads(self.settings("show", "--json"))["settings"]
        self.assertEqual([(one["key"], one["value"], one["counts"]) for one in lines],
                         [("jobs", 3, False), ("cache", "/nowhere", True), ("jobs", 1, True)])  # fmt: skip
        self.assertIn("a later one counts", self.settings("show"))
        self.assertEqual(tomllib.loads((self.root / "yarrik.local.toml").read_text()), {"settings": {"jobs": 1}})
        self.assertIn("no problem found", self.yarrik("check", at=self.root))

    def test_comments_order_and_tables_stay_and_an_empty_value_removes(self) -> None:
        text = '# mine\njobs = 2   # two\n\n[mirrors]\n"https://a.example/" = ["https://b.example/"]\n\n[[shared-cache]]\nname = "office"\nat = "/srv/x"\n'
        self.file.parent.mkdir()
        self.file.write_text(text)
        self.settings("set", "jobs=5", "mirrors.https://c.example/=https://d.example/")
        changed = self.file.read_text()
        self.assertTrue(changed.startswith("# mine\njobs = 5   # two\n"))
        self.assertEqual(tomllib.loads(changed)["mirrors"]["https://c.example/"], ["https://d.example/"])
        self.assertEqual(tomllib.loads(changed)["shared-cache"], [{"name": "office", "at": "/srv/x"}])
        self.settings("set", "jobs=", "mirrors.https://c.example/=")
        self.assertEqual(
            tomllib.loads(self.file.read_text()), {key: value for key, value in tomllib.loads(text).items() if key != "jobs"}
        )

    def test_what_does_not_fit_changes_nothing(self) -> None:
        self.settings("set", "jobs=2")
        before = self.file.read_bytes()
        for word, wanted in (
            ("jobs=many", "jobs"), ("jobs=99999", "jobs"), ("trusted-keys=short", "not a public key"), ("jbos=3", "did you mean `jobs`?"),
            ("shared-cache=x", "edit the file"), ("jobs", "SETTING-FORM"), ("cache=a\nb", "one line"),
        ):  # fmt: skip
            self.assertIn(wanted, self.settings("set", word, code=2), word)
            self.assertEqual(self.file.read_bytes(), before, word)
        self.file.write_text("jobs = [")
        self.assertIn("error FILE-NOT-TOML", self.settings("set", "jobs=2", code=2))
        self.assertEqual(self.file.read_text(), "jobs = [")
        self.assertIn("WORKSPACE-MISSING", self.yarrik("settings", "set", "--here", "jobs=2", code=2))

    def test_the_former_names_are_unknown(self) -> None:
        self.write("w/yarrik.local.toml", "[site]\njobs = 2\n")
        self.assertIn("unknown key `site`", self.yarrik("check", at=self.root, code=2))


if __name__ == "__main__":
    unittest.main()
