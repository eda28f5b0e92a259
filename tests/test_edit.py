"""Work on sources: edits are built, become patches with their messages, and are never thrown away unseen."""

import os
import subprocess
import unittest
from pathlib import Path

from tests.support import WorkspaceTest


class SourcesAreEdited(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("w/yarrik.toml", (self.root / "yarrik.toml").read_text() + '[[shelf]]\nname = "ours"\npath = "ours"\n')
        self.write("w/ours/shelf.toml", '[shelf]\nname = "ours"\n')
        self.recipe(
            "note", "mkdir -p $DESTDIR/etc && cp note $DESTDIR/etc/note", {"note": "one\ntwo\nthree\n", ".gitignore": "*.log\n"}
        )
        self.write("w/s/images/i.toml", 'packages = ["init", "note"]\n')
        self.edit = self.root / "edits/note"
        self.built = 0

    def git(self, *words: str) -> str:
        identity = {f"GIT_{who}_{what}": value for who in ("AUTHOR", "COMMITTER")
                    for what, value in (("NAME", "A. Tern"), ("EMAIL", "tern@example.org"))}  # fmt: skip
        return subprocess.run(["git", "-C", str(self.edit), *words], env={**os.environ, **identity}, check=True,
                              capture_output=True, text=True).stdout  # fmt: skip

    def note(self) -> str:
        """A file's text in the image after a build."""
        self.built += 1
        self.said = self.yarrik("build", at=self.root)
        there = self.folder / f"there-{self.built}"
        self.yarrik("inspect", "out/p/p.img", "--extract", "/etc/note", "--to", there, at=self.root)
        return next(path for path in Path(there).rglob("*") if path.is_file()).read_text()

    def changed(self, text: str, message: str) -> None:
        (self.edit / "note").write_text(text)
        self.git("commit", "-a", "-q", "-m", message)

    def code(self, *words: str) -> str:
        self.yarrik("edit", "note", *words, code=2, at=self.root)
        return self.yarrik("edit", "note", *words, code=2, at=self.root).partition(":")[0].split()[-1]

    def test_an_edit_is_built_and_said_saved_as_patches_and_closed_without_another_build(self) -> None:
        self.assertEqual(self.note(), "one\ntwo\nthree\n")
        self.yarrik("edit", "note", at=self.root)
        self.assertEqual(self.git("log", "--format=%s").strip(), "note 1, as prepared")
        (self.edit / "note").write_text("one\nTWO\nthree\n")
        self.assertEqual(self.note(), "one\nTWO\nthree\n")
        self.assertIn("note is built from edits/note", self.said)
        self.assertEqual(self.code("--save", "s"), "EDIT-UNCOMMITTED")
        self.assertEqual(self.code("--close"), "EDIT-UNSAVED")
        self.git("commit", "-a", "-q", "-m", "Louder\n\nSo that the harbour master hears it.")
        self.changed("one\nTWO\nthree\nfour\n", "One more")
        self.yarrik("edit", "note", "--save", "s", "--close", at=self.root)
        self.assertFalse(self.edit.exists())
        patches = sorted((self.root / "s/recipes/note").glob("*.patch"))
        self.assertEqual([path.name for path in patches], ["0001-Louder.patch", "0002-One-more.patch"])
        self.assertIn("So that the harbour master hears it.", patches[0].read_text())
        self.assertIn('From: "A. Tern" <tern@example.org>', patches[0].read_text())
        self.assertEqual((self.root / "s/recipes/note/src/note").read_text(), "one\ntwo\nthree\n")
        self.assertEqual(self.note(), "one\nTWO\nthree\nfour\n")
        self.assertNotIn("is built from", self.said)

    def test_onto_another_shelf_it_becomes_an_amendment_and_further_commits_join_it(self) -> None:
        self.yarrik("edit", "note", at=self.root)
        self.changed("one\n2\nthree\n", "Two in digits")
        self.yarrik("edit", "note", "--save", "ours", at=self.root)
        self.changed("one\n2\n3\n", "Three in digits")
        self.assertEqual(self.code("--close"), "EDIT-UNSAVED")
        self.yarrik("edit", "note", "--save", "ours", "--close", at=self.root)
        names = sorted(path.name for path in (self.root / "ours/amendments").iterdir())
        self.assertEqual(names, ["0001-Two-in-digits.patch", "0002-Three-in-digits.patch", "note.toml"])
        self.assertEqual(self.note(), "one\n2\n3\n")
        self.assertNotIn("patches", (self.root / "s/recipes/note/recipe.toml").read_text())
        # Begun again, the tree holds what the patches bring.
        self.yarrik("edit", "note", at=self.root)
        self.assertEqual((self.edit / "note").read_text(), "one\n2\n3\n")

    def test_22_nothing_is_thrown_away_unseen(self) -> None:
        self.yarrik("edit", "note", at=self.root)
        self.assertEqual(self.code("--save", "ours"), "EDIT-NOTHING")
        (self.edit / "note").write_text("mine\n")
        (self.edit / "more").write_text("mine too\n")
        said = self.yarrik("edit", "note", "--drop", code=2, at=self.root)
        for words in ("changed  note", "changed  more", "error EDIT-UNSAVED"):
            self.assertIn(words, said)
        self.yarrik("edit", "note", at=self.root)  # again: as it was left
        self.assertEqual((self.edit / "note").read_text(), "mine\n")
        self.yarrik("edit", "note", "--drop", "--yes", at=self.root)
        self.assertFalse(self.edit.exists())
        self.assertEqual(self.code("--close"), "EDIT-CLOSED")
        self.assertEqual(self.note(), "one\ntwo\nthree\n")

    def test_22_work_that_lies_elsewhere_in_the_repository_is_not_thrown_away_either(self) -> None:
        def begin() -> None:
            self.yarrik("edit", "note", at=self.root)

        ways = {
            "another branch": lambda: (self.git("checkout", "-q", "-b", "idea"), self.changed("idea\n", "An idea"), self.git("checkout", "-q", "edit")),
            "a stash": lambda: ((self.edit / "note").write_text("stashed\n"), self.git("stash", "-q")),
            "a tag": lambda: (self.changed("x\n", "Tagged"), self.git("tag", "keep"), self.git("reset", "-q", "--hard", "yarrik-saved")),
            "a change that git is told to overlook": lambda: (
                self.git("update-index", "--assume-unchanged", "note"), (self.edit / "note").write_text("hidden\n")),
        }  # fmt: skip
        for name, work in ways.items():
            with self.subTest(name):
                begin()
                work()
                self.assertEqual(self.code("--close"), "EDIT-UNSAVED")
                self.assertTrue(self.edit.exists())
                self.yarrik("edit", "note", "--drop", "--yes", at=self.root)

    def test_22_what_is_in_doubt_is_kept_aside(self) -> None:
        def ignored() -> None:
            (self.edit / ".git/info/exclude").write_text("*.new\n")
            (self.edit / "mine.new").write_text("mine\n")

        def replaced() -> None:
            self.changed("better\n", "Better")
            self.git("commit", "-q", "--amend", "-m", "Better words")
            self.yarrik("edit", "note", "--save", "s", at=self.root)

        def inside() -> None:
            (self.edit / ".git/info/exclude").write_text("other/\n")
            self.git("init", "-q", "other")

        for work, telling in ((ignored, "mine.new"), (inside, "other/.git"), (replaced, ".git/logs")):
            self.yarrik("edit", "note", at=self.root)
            work()
            said = self.yarrik("edit", "note", "--close", at=self.root)
            self.assertFalse(self.edit.exists())
            kept = max((self.root / ".yarrik/kept-edits").iterdir(), key=lambda path: path.stat().st_ctime)
            self.assertIn(f".yarrik/kept-edits/{kept.name}", said)
            self.assertTrue((kept / telling).exists(), telling)
        self.yarrik("edit", "note", at=self.root)
        self.assertNotIn("kept", self.yarrik("edit", "note", "--close", at=self.root))  # nothing was done in it

    def test_what_cannot_become_patches_is_left_where_it_is(self) -> None:
        self.yarrik("edit", "note", at=self.root)
        self.git("checkout", "-q", "-b", "side")
        self.changed("one\ntwo\nthree\nfour\n", "Four")
        self.git("checkout", "-q", "-")
        self.changed("zero\none\ntwo\nthree\n", "Zero")
        self.git("merge", "-q", "-m", "Both", "side")
        self.assertEqual(self.code("--save", "ours"), "EDIT-MERGES")
        self.git("reset", "-q", "--hard", "HEAD^1")
        amendment = self.write("w/ours/amendments/note.toml", 'summary = "x"\nrecipe = "init"\n[set]\nlicence = "MIT"\n')
        self.assertEqual(self.code("--save", "ours"), "EDIT-NO-PLACE")
        amendment.unlink()
        self.assertFalse(list((self.root / "ours").rglob("*.patch")))
        hook = self.edit / ".git/index"
        hook.write_bytes(b"no index")
        said = self.yarrik("edit", "note", "--save", "ours", code=1, at=self.root)
        self.assertRegex(said, "error EDIT-GIT: git [a-z-]+ failed: .*index")
        self.assertEqual((self.edit / "note").read_text(), "zero\none\ntwo\nthree\n")

    def test_files_stay_as_they_are_whatever_the_sources_attributes_say(self) -> None:
        (self.root / "s/recipes/note/src/.gitattributes").write_text("* text eol=crlf ident\n")
        (self.root / "s/recipes/note/src/dos").write_bytes(b"one\r\ntwo\n$Id$\n")
        self.yarrik("edit", "note", at=self.root)
        self.assertEqual((self.edit / "dos").read_bytes(), b"one\r\ntwo\n$Id$\n")
        self.assertNotIn("kept", self.yarrik("edit", "note", "--close", at=self.root))

    def test_names_that_lead_elsewhere_are_no_recipes(self) -> None:
        self.write("w/precious/.git/x", "x")
        for name in ("../precious", "/tmp", "."):
            self.yarrik("edit", name, "--drop", "--yes", code=2, at=self.root)
        self.assertTrue((self.root / "precious/.git/x").exists())

    def test_shelves_and_recipes_that_are_nowhere(self) -> None:
        self.yarrik("edit", "note", at=self.root)
        self.changed("x\n", "X")
        self.assertEqual(self.code("--save", "our"), "SHELF-UNKNOWN")
        said = self.yarrik("edit", "noet", code=2, at=self.root)
        self.assertIn("did you mean `note`?", said)
        self.assertIn("error EDIT-NO-SOURCES", self.yarrik("edit", "libc", code=2, at=self.root))


if __name__ == "__main__":
    unittest.main()
