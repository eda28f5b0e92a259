"""Order of recipes, packages at run time, the lock."""

import json
import unittest

from tests.support import FolderTest, WorkspaceTest
from yarrik.elf import ElfFacts
from yarrik.errors import Place, YarrikError
from yarrik.model import compose, load_workspace
from yarrik.resolve import BuiltPackage, Order, PackagedPath, build_order, choose_packages, read_lock, resolve


class RecipesAreOrdered(WorkspaceTest):
    def ordered(self, *roots: str) -> Order:
        self.write("w/s/images/i.toml", f"packages = {json.dumps(roots)}\n")
        return build_order(resolve(compose(load_workspace(self.root))))

    def order(self, *roots: str) -> list[str]:
        return [str(node) for node in self.ordered(*roots).nodes if node.recipe not in ("init", "libc", "kernel")]

    def test_needs_come_before_users_and_tools_are_built_for_the_host(self) -> None:
        self.recipe("lib", "true")
        self.recipe("gen", "true", more='needs = ["lib"]')
        self.recipe("app", "true", more='needs = ["lib"]\ntools = ["gen"]')
        self.assertEqual(self.order("app"), ["lib (host)", "gen (host)", "lib", "app"])

    def test_what_a_package_needs_at_run_time_is_built_too_and_may_go_round(self) -> None:
        self.recipe("one", "true", package='[package.one]\nneeds = ["two"]')
        self.recipe("two", "true", package='[package.two]\nneeds = ["one"]')
        self.assertEqual(self.order("one"), ["one", "two"])

    def test_a_loop_is_shown_with_the_line_that_closes_it(self) -> None:
        self.recipe("a", "true", more='needs = ["b"]')
        self.recipe("b", "true", more='needs = ["c"]')
        self.recipe("c", "true", more='needs = ["a"]')
        with self.assertRaises(YarrikError) as caught:
            self.order("b")
        trouble = caught.exception.troubles[0]
        self.assertIn("a → b → c → a", trouble.what)
        self.assertEqual((trouble.place.file.parent.name, trouble.place.key), ("c", "build.needs"))

    def test_a_tool_that_needs_its_own_user_on_the_host_is_a_loop(self) -> None:
        self.recipe("a", "true", more='tools = ["a"]')
        with self.assertRaises(YarrikError) as caught:
            self.order("a")
        self.assertIn("a (host) → a (host)", caught.exception.troubles[0].what)

    def test_a_chain_longer_than_the_stack_is_ordered(self) -> None:
        for number in range(1500):
            self.recipe(f"r{number:04}", "true", more=f'needs = ["r{number + 1:04}"]' if number < 1499 else "")
        self.assertEqual(self.order("r0000")[0], "r1499")

    def test_an_unknown_name_is_told_with_the_nearest(self) -> None:
        self.recipe("libtide", "true")
        self.recipe("app", "true", more='needs = ["libtied"]')
        with self.assertRaises(YarrikError) as caught:
            self.order("app")
        self.assertIn("`libtide`", caught.exception.troubles[0].remedy)


def package(name: str, *paths: str, needs: tuple[str, ...] = (), **loads: tuple[str, ...]) -> BuiltPackage:
    elf = {f"/bin/{program}": ElfFacts("arm64", "program", "/lib/ld.so", "", names) for program, names in loads.items()}
    entries = tuple(PackagedPath(path, "file", 0o755, 1, "0" * 64) for path in (*paths, *elf))
    return BuiltPackage(name, name, "1", "MIT", "", needs, entries, elf)


class PackagesAreChosen(unittest.TestCase):
    libc = package("libc", "/lib/ld.so", "/lib/libc.so.6")

    def test_libraries_and_loader_are_found_from_the_files_themselves(self) -> None:
        app = package("app", tide=("libtide.so.2", "libc.so.6"))
        tide = package("libtide", "/usr/lib/libtide.so.2")
        idle = package("idle", "/bin/idle")
        chosen = choose_packages([app, tide, self.libc, idle], [("app", "asked for")])
        self.assertEqual({one.package.name: one.because for one in chosen},
                         {"app": "asked for", "libc": "/bin/tide loads /lib/ld.so", "libtide": "/bin/tide loads libtide.so.2"})  # fmt: skip

    def test_a_library_that_nothing_brings_is_told_with_who_needs_it(self) -> None:
        with self.assertRaises(YarrikError) as caught:
            choose_packages([package("app", tide=("libgone.so.1",)), self.libc], [("app", "asked for")])
        self.assertEqual([t.code for t in caught.exception.troubles], ["LIBRARY-MISSING"])
        self.assertIn("/bin/tide of the package `app` loads libgone.so.1", caught.exception.troubles[0].what)

    def test_two_that_bring_the_same_library_need_a_word_of_choice(self) -> None:
        app = package("app", tide=("libx.so",))
        both = [package("x1", "/usr/lib/libx.so"), package("x2", "/lib/libx.so")]
        with self.assertRaises(YarrikError) as caught:
            choose_packages([app, self.libc, *both], [("app", "")])
        self.assertEqual(caught.exception.troubles[0].code, "LIBRARY-AMBIGUOUS")
        chosen = choose_packages([app, self.libc, *both], [("x2", ""), ("app", "")])
        self.assertEqual([one.package.name for one in chosen], ["app", "libc", "x2"])

    def test_declared_needs_are_followed(self) -> None:
        chosen = choose_packages([package("a", needs=("b",)), package("b")], [("a", "")])
        self.assertEqual(chosen[1].because, "needed by a")


class SourcesAreLocked(FolderTest):
    def test_the_first_digest_is_pinned_and_another_is_refused_until_renewed(self) -> None:
        lock = read_lock(self.folder)
        self.assertIsNone(lock.check("linux", "/usr/src/l.tar", "a" * 64, Place(), renew=False))
        lock.write()
        again = read_lock(self.folder)
        self.assertIsNone(again.check("linux", "/usr/src/l.tar", "a" * 64, Place(), renew=False))
        self.assertFalse(again.changed)
        trouble = again.check("linux", "/usr/src/l.tar", "b" * 64, Place(), renew=False)
        self.assertIn("a" * 64, trouble.what)
        self.assertIn("b" * 64, trouble.what)
        self.assertIsNone(again.check("linux", "/usr/src/l.tar", "b" * 64, Place(), renew=True))
        again.write()
        self.assertEqual(read_lock(self.folder).sources, {"linux /usr/src/l.tar": "b" * 64})


if __name__ == "__main__":
    unittest.main()
