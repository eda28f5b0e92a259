"""What builds are given to build with: documents that name each other, and folders that one step leaves to the next."""

import json
import unittest
from pathlib import Path
from unittest.mock import patch

from tests.support import FolderTest, WorkspaceTest
from yarrik.beneath import Folder
from yarrik.cache import Entry, Store, Tree, read_tree
from yarrik.errors import Damaged, YarrikError
from yarrik.run.perform import lay_out_inputs
from yarrik.run.sandbox import Sandbox
from yarrik.run.session import Session
from yarrik.run.sysroots import Layouts, changed_below, parts_below, put_part, trees_of


class SysrootTest(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = Store(self.folder / "cache")
        self.layouts = Layouts()
        self.count = 0

    def tree(self, *paths: str, text: str = "x", links: dict[str, str] | None = None) -> str:
        """A stored tree with a file of this text at each path, and links."""
        found: dict[str, Entry] = {}
        for path in (*paths, *(links or {})):
            above = path
            while "/" in above:
                above = above.rpartition("/")[0]
                found[above] = Entry(above, "folder", 0o755, 0, "")
        for path in paths:
            found[path] = Entry(path, "file", 0o644, len(text), self.store.put_bytes(text.encode()))
        for path, target in (links or {}).items():
            found[path] = Entry(path, "link", 0o777, len(target), target)
        return self.store.put_tree(Tree.of(found.values()))

    def part(self, recipe: str, *needs: str, path: str = "", text: str = "x", links: dict[str, str] | None = None) -> str:
        paths = () if links else (path or f"usr/include/{recipe}.h",)
        return put_part(self.store, recipe, self.tree(*paths, text=text, links=links), needs)

    def chain(self, length: int) -> list[str]:
        found: list[str] = []
        for number in range(length):
            found.append(self.part(f"r{number}", *found[-1:]))
        return found


class DocumentsNameEachOther(SysrootTest):
    def test_the_last_of_a_long_chain_is_no_larger_than_the_second(self) -> None:
        chain = self.chain(2_000)  # far more than Python's stack takes
        sizes = {self.store.object_path(digest).stat().st_size for digest in chain[10:100]}
        self.assertEqual(len(sizes), 1)
        parts, _ = parts_below(self.store, chain[-1:])
        self.assertEqual([part.recipe for part in parts.values()], [f"r{number}" for number in range(2_000)])

    def test_each_comes_once_and_behind_what_it_needs(self) -> None:
        base = self.part("base")
        left, right = self.part("left", base), self.part("right", base)
        top = self.part("top", left, right, left)
        parts, met = parts_below(self.store, [top, left])
        self.assertEqual([part.recipe for part in parts.values()], ["base", "left", "right", "top"])
        self.assertEqual(met, set())
        parts, met = parts_below(self.store, [top], known={left})
        self.assertEqual([part.recipe for part in parts.values()], ["base", "right", "top"])
        self.assertEqual(met, {left})

    def test_the_same_files_of_two_recipes_are_two(self) -> None:
        one, two = (put_part(self.store, name, self.tree("usr/include/x.h"), ()) for name in ("one", "two"))
        self.assertNotEqual(one, two)
        self.assertEqual(len(trees_of(self.store, {"needs one": one, "needs two": two, "source": "no document"})), 2)

    def test_what_differs_far_below_is_told_by_its_path(self) -> None:
        before, after = (self.part("app", self.part("mid", self.part("deep", text=text))) for text in ("one", "two"))
        self.assertEqual(changed_below(self.store, before, after), ["usr/include/deep.h"])
        self.assertEqual(changed_below(self.store, before, before), [])
        self.assertEqual(changed_below(self.store, self.part("app"), before), ["usr", "usr/include", "usr/include/deep.h",
                                                                             "usr/include/mid.h"])  # fmt: skip

    def test_what_is_no_document_is_refused(self) -> None:
        digest = "0" * 64
        for text in (
            b"", b"[]", b"null", b'{"recipe": "x"}', b'{"recipe": "x", "tree": "../../etc/passwd"}', b"\xff",
            json.dumps({"recipe": "x", "tree": digest + "\n"}).encode(),
            json.dumps({"recipe": "x", "tree": digest, "needs": ["x/../../y"]}).encode(),
            json.dumps({"recipe": "x", "tree": digest, "needs": {"a": digest}}).encode(),
            b'{"recipe": "' + b"x" * (5 << 20) + b'", "tree": "' + b"0" * 64 + b'"}',
        ):  # fmt: skip
            with self.subTest(text[:60]), self.assertRaises(Damaged):
                parts_below(self.store, [self.store.put_bytes(text)])


class OneStepLeavesItsFolderToTheNext(SysrootTest):
    def step(self, *tops: str, leaves: bool = True) -> tuple[int, list[str]]:
        """Lays a sysroot out as for a step; its inode, and what lies in it."""
        self.count += 1
        work = self.folder / f"work/{self.count}"
        work.mkdir(parents=True)
        with Folder.at(work) as below:
            self.layouts.lay_out(self.store, "sysroot", tops, work, below)
            found = sorted(str(path.relative_to(work / "sysroot")) for path in (work / "sysroot").rglob("*")
                           if path.is_symlink() or not path.is_dir())  # fmt: skip
            inode = (work / "sysroot").stat().st_ino
            if leaves:
                self.layouts.give_back(work, below)
            else:
                self.layouts.drop(work)
        return inode, found

    def test_a_chain_adds_to_one_folder(self) -> None:
        chain = self.chain(5)
        inodes = set()
        for length in range(1, 6):
            inode, found = self.step(chain[length - 1])
            self.assertEqual(found, [f"usr/include/r{number}.h" for number in range(length)])
            inodes.add(inode)
        self.assertEqual(len(inodes), 1)
        self.assertEqual(self.step(chain[-1])[0], inode)

    def test_one_with_too_much_in_it_is_left_alone(self) -> None:
        base = self.part("base")
        left, right = self.part("left", base), self.part("right", base)
        self.step(left)
        self.assertEqual(self.step(right)[1], ["usr/include/base.h", "usr/include/right.h"])
        self.assertEqual(self.step(base)[1], ["usr/include/base.h"])
        self.assertEqual(self.step(left, right)[1], ["usr/include/base.h", "usr/include/left.h", "usr/include/right.h"])

    def test_the_one_that_lacks_least_is_taken(self) -> None:
        chain = self.chain(4)
        short, long = self.step(chain[0], leaves=False), self.step(chain[2])
        self.step(self.part("apart"))
        self.assertEqual(self.step(chain[3])[0], long[0])
        self.assertNotEqual(short[0], long[0])

    def test_a_step_that_failed_leaves_nothing(self) -> None:
        chain = self.chain(2)
        inode, _ = self.step(chain[0], leaves=False)
        self.assertNotEqual(self.step(chain[1])[0], inode)

    def test_another_folder_in_its_place_is_not_taken(self) -> None:
        chain = self.chain(2)
        work = self.folder / "work/hostile"
        work.mkdir(parents=True)
        with Folder.at(work) as below:
            self.layouts.lay_out(self.store, "sysroot", chain[:1], work, below)
            (work / "sysroot").rename(work / "away")
            (work / "sysroot").mkdir()
            (work / "sysroot/planted.h").write_text("x")
            self.layouts.give_back(work, below)
            (work / "sysroot/planted.h").unlink()
            (work / "sysroot").rmdir()
            (work / "away").rename(work / "sysroot")
            (work / "sysroot").rename(work / "elsewhere")
            (work / "sysroot").symlink_to("elsewhere")
            self.layouts.give_back(work, below)
        self.assertEqual(self.step(chain[1])[1], ["usr/include/r0.h", "usr/include/r1.h"])

    def test_what_clashes_with_what_lies_there_is_told(self) -> None:
        one = self.part("one", path="usr/include/x.h")
        self.step(one)
        for name, paths, links in (("two", "usr/include/x.h", None), ("three", "usr/include", None),
                                   ("four", "", {"usr/include": "../elsewhere"})):  # fmt: skip
            with self.subTest(name), self.assertRaises(YarrikError) as caught:
                self.step(self.part(name, one, path=paths, links=links))
            self.assertEqual([trouble.code for trouble in caught.exception.troubles], ["SYSROOT-CLASH"])
            self.assertIn("`one` and", caught.exception.troubles[0].what)
            self.step(one)

    def test_a_link_into_usr_places_what_came_before_it_and_what_comes_after(self) -> None:
        plain = self.part("plain", path="lib/a.so")
        link = self.part("base", links={"lib": "usr/lib"})
        self.assertEqual(self.step(plain)[1], ["lib/a.so"])
        self.assertEqual(self.step(plain, link)[1], ["lib", "usr/lib/a.so"])
        after = self.part("after", path="lib/b.so")
        self.assertEqual(self.step(plain, link, after)[1], ["lib", "usr/lib/a.so", "usr/lib/b.so"])

    def test_nothing_waits_after_damage(self) -> None:
        chain = self.chain(2)
        self.step(chain[0])
        waiting = list((self.folder / "work").glob("sysroot-*"))
        self.assertEqual(len(waiting), 1)
        self.layouts.clear()
        self.assertFalse(waiting[0].exists())
        self.assertEqual(self.step(chain[1])[1], ["usr/include/r0.h", "usr/include/r1.h"])

    def test_few_wait_at_a_time(self) -> None:
        for number in range(9):
            self.step(self.part(f"apart{number}"))
        self.assertEqual(len(list((self.folder / "work").glob("sysroot-*"))), 4)


class LargeTreesAreUsedAgain(SysrootTest):
    def step(self, tree: str, leaves: bool = True, writable: tuple[str, ...] = (), name: str = "source") -> int:
        """Lays a tree out as for a step, and returns its inode."""
        self.count += 1
        work = self.folder / f"work/{self.count}"
        work.mkdir(parents=True)
        with patch("yarrik.run.perform.LARGE", 2), Folder.at(work) as below:
            lay_out_inputs({f"{name} r": tree}, self.store, Sandbox(), below, writable, self.layouts, work)
            self.holds(work / name, tree)
            inode = (work / name).stat().st_ino
            if leaves:
                self.layouts.give_back(work, below)
            else:
                self.layouts.drop(work)
        return inode

    def holds(self, folder: Path, tree: str) -> None:
        def shown(one: Tree) -> list[tuple[str, str]]:
            return [(entry.path, entry.content) for entry in one.entries]

        self.assertEqual(shown(read_tree(folder)), shown(self.store.tree(tree)))

    def waiting(self) -> int:
        return len(list((self.folder / "work").glob("tree-*")))

    def test_the_same_tree_is_laid_out_once(self) -> None:
        first = self.tree("a/b", "a/c")
        inode = self.step(first)
        self.assertEqual(self.step(first, name="kernel"), inode)
        self.assertNotEqual(self.step(self.tree("a/b", "a/d")), inode)
        self.assertEqual(self.step(first), inode)
        self.assertEqual(self.waiting(), 2)

    def test_steps_at_the_same_time_have_folders_of_their_own(self) -> None:
        tree = self.tree("a/b", "a/c")
        works = [self.folder / f"work/{name}" for name in "xy"]
        for work in works:
            work.mkdir(parents=True)
        with Folder.at(works[0]) as one, Folder.at(works[1]) as other:
            for work, below in zip(works, (one, other), strict=True):
                self.layouts.lay_out_tree(self.store, "source", self.store.tree(tree), work, below)
            for work, below in zip(works, (one, other), strict=True):
                self.holds(work / "source", tree)
                self.layouts.give_back(work, below)
        self.assertEqual(self.waiting(), 1)

    def test_what_may_be_written_or_is_small_does_not_wait(self) -> None:
        self.step(self.tree("a/b", "a/c"), writable=("source",))
        self.step(self.tree("a"))
        self.step(self.tree("a/b", "a/c"), name="elsewhere")  # commands may write into folders of no known name
        self.assertEqual(self.waiting(), 0)

    def test_a_step_that_failed_leaves_nothing(self) -> None:
        tree = self.tree("a/b", "a/c")
        self.step(tree, leaves=False)
        self.assertEqual(self.waiting(), 0)
        self.step(tree)
        self.assertEqual(self.waiting(), 1)

    def test_another_folder_in_its_place_is_not_taken(self) -> None:
        tree = self.store.tree(self.tree("a/b", "a/c"))
        work = self.folder / "work/hostile"
        for put in ("folder", "link", "nothing"):
            work.mkdir(parents=True)
            with self.subTest(put), Folder.at(work) as below:
                self.layouts.lay_out_tree(self.store, "source", tree, work, below)
                (work / "source").rename(work / "away")
                if put == "folder":
                    (work / "source").mkdir()
                elif put == "link":
                    (work / "source").symlink_to("away")
                self.layouts.give_back(work, below)
                self.assertEqual(self.waiting(), 0)
            work.rename(self.folder / f"was-{put}")

    def test_nothing_waits_after_damage_and_few_at_a_time(self) -> None:
        for number in range(5):
            self.step(self.tree("a/b", f"a/{number}"))
        self.assertEqual(self.waiting(), 2)
        self.layouts.clear()
        self.assertEqual(self.waiting(), 0)
        self.step(self.tree("a/b", "a/4"))


class BuildsAreGivenThem(WorkspaceTest):
    def chain(self, length: int) -> list[str]:
        names = [f"r{number:03}" for number in range(length)]
        for number, name in enumerate(names):
            needs = f'needs = ["{names[number - 1]}"]' if number else ""
            shown = " ".join(f"/step/sysroot/usr/include/{one}.h" for one in names[:number]) or "/dev/null"
            command = f"mkdir -p $DESTDIR/usr/include; cat {shown} > all; cp {name}.h $DESTDIR/usr/include; "
            self.recipe(name, command + f"ls /step/sysroot/usr/include > $DESTDIR/{name}.saw || true",
                        {f"{name}.h": f"// {name}\n"}, needs)  # fmt: skip
        self.write("w/s/images/i.toml", f'packages = ["init", "{names[-1]}"]\n')
        return names

    def test_a_build_sees_all_that_its_needs_need_and_nothing_else(self) -> None:
        names = self.chain(6)
        self.recipe("apart", "mkdir -p $DESTDIR/usr/include; cp apart.h $DESTDIR/usr/include", {"apart.h": "//\n"})
        self.write("w/s/images/i.toml", f'packages = ["init", "apart", "{names[-1]}"]\n')
        self.yarrik("build", "--jobs", "2", at=self.root)
        self.assertEqual(self.content(f"/{names[-1]}.saw").split(), [f"{name}.h" for name in names[:-1]])
        self.assertEqual([path.name for path in (self.root / ".yarrik/work").glob("*/*")], [])

    def test_a_changed_header_far_below_is_the_reason_for_all_above(self) -> None:
        names = self.chain(4)
        self.yarrik("build", at=self.root)
        self.write(f"w/s/recipes/{names[0]}/src/{names[0]}.h", "// another\n")
        report = self.yarrik_json("build", at=self.root)
        ran = {step["step"]: step["reason"] for step in report["steps"] if step["how"] == "ran"}
        self.assertEqual([name for name in names if f"build {name}" in ran], names)
        self.assertEqual(ran[f"build {names[3]}"], f"stage {names[2]} came out different: usr/include/{names[0]}.h")
        more = "mkdir -p $DESTDIR/usr/include $DESTDIR/usr/bin; cp r000.h $DESTDIR/usr/include; echo x > $DESTDIR/usr/bin/x"
        self.recipe(names[0], more)
        ran = self.ran(self.yarrik_json("build", at=self.root))
        self.assertIn("stage r000", ran)
        self.assertEqual([name for name in names[1:] if f"build {name}" in ran], [])

    def test_what_the_cache_lost_far_below_is_made_again(self) -> None:
        names = self.chain(4)
        self.yarrik("build", at=self.root)
        document = json.loads((self.root / "out/p/build.json").read_text())
        every = {step["step"]: step["outputs"] for step in document["steps"]}
        self.assertEqual(len({every[f"stage {name}"]["archives"] for name in names}), 1)  # that there are none is said once
        outputs = every[f"stage {names[0]}"]
        for kind, digest in (("trees", outputs["sysroot"]), ("objects", outputs["needs"])):
            with self.subTest(kind):
                lost = next((self.folder / "cache" / kind).rglob(digest))
                lost.unlink()
                self.write(f"w/s/recipes/{names[-1]}/src/more.h", f"// {kind}\n")
                self.yarrik("build", at=self.root)
                self.assertTrue(lost.exists())

    def test_tools_bring_the_libraries_that_they_are_linked_with(self) -> None:
        make = "mkdir -p $DESTDIR/usr/lib; $CC -shared -fPIC -Wl,-soname,libknot.so -o $DESTDIR/usr/lib/libknot.so knot.c"
        self.recipe("knot", make, {"knot.c": "int knot(void) { return 0; }\n"})
        self.recipe("knots", "mkdir -p $DESTDIR/usr/bin; $CC $LDFLAGS -Wl,-rpath,'$ORIGIN/../lib' -o $DESTDIR/usr/bin/knots "
                    "main.c -lknot", {"main.c": "int knot(void);\nint main(void) { return knot(); }\n"}, 'needs = ["knot"]')  # fmt: skip
        self.recipe("app", "knots && ls /step/tools/usr/lib /step/tools/usr/bin > $DESTDIR/saw", more='tools = ["knots"]')
        self.write("w/s/images/i.toml", 'packages = ["init", "app"]\n')
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/saw").split(), ["/step/tools/usr/bin:", "knots", "/step/tools/usr/lib:", "libknot.so"])

    def test_what_a_plan_holds_grows_with_the_recipes_alone(self) -> None:
        sizes = []
        for length in (20, 200):
            self.chain(length)
            session = Session(self.root)
            self.addCleanup(session.close)
            planned = session.planner.planned(session.planner.compose())
            sizes.append(sum(len(step.inputs) for step in planned.graph.steps))
        self.assertLess(sizes[1], 11 * sizes[0])


if __name__ == "__main__":
    unittest.main()
