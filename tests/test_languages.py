"""Programs in Go and Rust, from modules and crates that they carry."""

import hashlib
import json
import re
import subprocess
import unittest
from pathlib import Path

from tests.support import WorkspaceTest
from tests.test_build_systems import PROGRAM, RECIPES, ForAnotherMachine
from yarrik.elf import read_elf
from yarrik.sources import look_at

GO = {
    "go.mod": "module example.org/gull\n\ngo 1.19\n\nrequire example.org/tide v1.2.0\n",
    "main.go": 'package main\n\nimport (\n\t"fmt"\n\t"os"\n\n\t"example.org/tide"\n)\n\nfunc main() {\n'
    '\tfmt.Println("level", tide.Level(4), len(os.Args))\n}\n',
    "vendor/modules.txt": "# example.org/tide v1.2.0\n## explicit\nexample.org/tide\n",
    "vendor/example.org/tide/tide.go": "package tide\n\nfunc Level(metres int) int { return metres * 100 }\n",
}
LIB = "pub fn level(metres: u32) -> u32 { metres * 100 }\n"
CRATE = '[package]\nname = "tide"\nversion = "1.2.0"\nedition = "2021"\n'
SUM = hashlib.sha256(b"the crate as it was published").hexdigest()
RUST = {
    "Cargo.toml": '[package]\nname = "gull"\nversion = "3.1.4"\nedition = "2021"\n\n[[bin]]\nname = "gull-level"\npath = "main.rs"\n\n'
    '[dependencies]\ntide = "1"\n',
    "Cargo.lock": 'version = 3\n\n[[package]]\nname = "gull"\nversion = "3.1.4"\ndependencies = [\n "tide",\n]\n\n[[package]]\nname = "tide"\n'
    f'version = "1.2.0"\nsource = "registry+https://github.com/rust-lang/crates.io-index"\nchecksum = "{SUM}"\n',
    "main.rs": 'fn main() {\n    let known = std::panic::catch_unwind(|| tide::level(4));\n    println!("level {}", known.unwrap());\n}\n',
    "vendor/tide/Cargo.toml": CRATE,
    "vendor/tide/src/lib.rs": LIB,
    "vendor/tide/.cargo-checksum.json": json.dumps({"files": {}, "package": SUM}),
}  # fmt: skip


def written(name: str, system: str, files: dict[str, str], test: WorkspaceTest) -> None:
    test.write(f"w/s/recipes/{name}/recipe.toml",
               f'version = "1"\nlicence = "MIT"\n[[source]]\npath = "src"\n[build]\nusing = "{system}"\n')  # fmt: skip
    for path, text in files.items():
        test.write(f"w/s/recipes/{name}/src/{path}", text)


class ForTheBoard(ForAnotherMachine):
    def test_a_go_program_for_another_machine(self) -> None:
        written("gull", "go", GO, self)
        program = next(path for where, path in self.built("gull").items() if where.endswith("usr/bin/gull"))
        facts = read_elf(program)
        assert facts is not None
        self.assertEqual((facts.arch, facts.needed), ("arm64", ()))
        self.assertNotIn(b"/step/", program.read_bytes())
        self.yarrik("prove", "--recipe", "gull", at=self.root)

    def test_rust_with_the_board_s_library_or_told_that_it_is_missing(self) -> None:
        written("gull", "cargo", RUST, self)
        if Path("/usr/lib/rustlib/aarch64-unknown-linux-gnu").is_dir():
            program = next(path for where, path in self.built("gull").items() if where.endswith("usr/bin/gull-level"))
            facts = read_elf(program)
            assert facts is not None
            self.assertEqual((facts.arch, facts.lacks), ("arm64", ()))
            return
        self.write("w/s/images/i.toml", 'packages = ["init", "gull"]\n')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("STEP-LACKS", said)
        self.assertIn("it lacks Rust's own library for the board's architecture", said)


class WithClang(ForAnotherMachine):
    """The same recipes with clang and lld, against the cross toolchain's C library."""

    def setUp(self) -> None:
        super().setUp()
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text() + 'compiler = "clang"\n')

    def test_each_build_system(self) -> None:
        for name, files in RECIPES.items():
            self.recipe(f"user-{name}", "true", {"main.c": PROGRAM, **files}, more='needs = ["gull"]')
            self.using(f"user-{name}", name, 'programs = ["autoreconf"]' if name == "autotools" else "")
        code = "#include <iostream>\nint main() { try { throw 1; } catch (int) { std::cout << 7; } }\n"
        self.recipe("cxx", "mkdir -p $DESTDIR/usr/bin && $CXX $CXXFLAGS $LDFLAGS -o $DESTDIR/usr/bin/cxx m.cc", {"m.cc": code})
        files = self.built("cxx", *(f"user-{name}" for name in RECIPES))
        for name in (*(f"usr/bin/with-{name}" for name in RECIPES), "usr/bin/cxx", "usr/lib/libgull.so.1"):
            path = next(path for where, path in files.items() if where.endswith(name))
            facts = read_elf(path)
            assert facts is not None
            self.assertEqual((facts.arch, "pie" in facts.lacks), ("arm64", False), name)
            made = self.tool("readelf", "-p", ".comment", path)
            self.assertIn("clang version", made, name)
            self.assertIn("LLD", made, name)
        self.assertRegex(
            (self.root / "out/p/build.json").read_text(), r"clang \d+\.\S+ with the library of aarch64-linux-gnu-gcc"
        )

    def test_another_compiler_builds_anew(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init", "gull"]\n')
        self.yarrik("build", at=self.root)
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace("clang", "gcc"))
        self.assertIn("build gull", self.ran(self.yarrik_json("build", at=self.root)))
        board.write_text(board.read_text().replace('"gcc"', '"clang"'))
        self.assertEqual(self.ran(self.yarrik_json("build", at=self.root)), [])


class ForThisMachine(WorkspaceTest):
    def program(self, name: str, path: str) -> bytes:
        """A program of an image, taken out of it."""
        self.write("w/s/images/i.toml", f'packages = ["init", "{name}"]\n')
        self.yarrik("build", at=self.root)
        self.yarrik("inspect", "out/p/p.img", "--extract", path, "--to", self.folder / "there", at=self.root)
        return (self.folder / "there" / path.rpartition("/")[2]).read_bytes()

    def run_it(self, path: str) -> str:
        file = self.folder / "there" / path.rpartition("/")[2]
        file.chmod(0o755)
        return subprocess.run([file], capture_output=True, text=True, check=True).stdout

    def test_go(self) -> None:
        written("gull", "go", GO, self)
        self.program("gull", "/usr/bin/gull")
        self.assertEqual(self.run_it("/usr/bin/gull"), "level 400 1\n")
        (self.root / "s/recipes/gull/src/vendor/modules.txt").unlink()
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("STEP-LACKS", said)
        self.assertIn("run `go mod vendor` in its sources", said)

    def test_rust(self) -> None:
        written("gull", "cargo", RUST, self)
        data = self.program("gull", "/usr/bin/gull-level")
        self.assertEqual(self.run_it("/usr/bin/gull-level"), "level 400\n")
        self.assertIsNone(re.search(rb"/step/(?:source|home)", data))
        # What ends threads and unwinds comes with the program.
        self.assertIn('"libgcc"', (self.root / "out/p/packages.json").read_text())
        self.yarrik("prove", "--recipe", "gull", at=self.root)
        for path in ("vendor/tide/Cargo.toml", "vendor/tide/src/lib.rs", "vendor/tide/.cargo-checksum.json"):
            (self.root / "s/recipes/gull/src" / path).unlink()
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("STEP-LACKS", said)
        self.assertIn("run `cargo vendor` in its sources", said)


class ALookAtSources(unittest.TestCase):
    def guesses(self, files: dict[str, str]) -> dict[str, str]:
        found = look_at({name: len(text) for name, text in files.items()}, lambda name: files[name].encode())
        return {guess.what: guess.value for guess in reversed(found.guesses)}

    def test_each_is_known(self) -> None:
        self.assertEqual(self.guesses({**GO, "Makefile": "all:\n"})["build system"], "go")
        rust = self.guesses({**RUST, "Makefile": "all:\n"})
        self.assertEqual((rust["build system"], rust["version"]), ("cargo", "3.1.4"))
        self.assertEqual(self.guesses({**RUST, "meson.build": "project('x')\n"})["build system"], "meson")


if __name__ == "__main__":
    unittest.main()
