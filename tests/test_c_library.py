"""A C library that a recipe brings: all that is compiled for the board is linked with it, and started by its loader."""

import subprocess
import unittest

from tests.support import WorkspaceTest
from yarrik.elf import read_elf

#: The smallest C library that starts a program on this machine's architecture: its start, its end, and one function.
START = """
__asm__(".globl _start\\n_start:\\n\\txor %ebp, %ebp\\n\\tand $-16, %rsp\\n\\tcall main\\n\\tmov %eax, %edi\\n\\tmov $60, %eax\\n\\tsyscall\\n");
"""
LIBRARY = "int tide_height(void) { return 7; }\n"
HEADER = "int tide_height(void);\n"
MAKE = r"""
all:
	$(CC) -c -fPIC -o crt1.o start.c
	echo | $(CC) -c -x assembler -o crti.o -
	$(CC) -nostdlib -shared -fPIC -fno-stack-protector -Wl,-soname,libsmall.so -o libsmall.so library.c
	$(CC) -c -fPIC -fno-stack-protector library.c
	$(AR) rcs libsmall.a library.o
	echo 'GROUP ( libsmall.a )' > libc.a
	echo 'GROUP ( libsmall.so )' > libc.so

install:
	mkdir -p $(DESTDIR)/usr/lib $(DESTDIR)/usr/include $(DESTDIR)/lib
	cp crt1.o crti.o libsmall.so libsmall.a libc.a libc.so $(DESTDIR)/usr/lib
	cp crt1.o $(DESTDIR)/usr/lib/Scrt1.o
	cp crti.o $(DESTDIR)/usr/lib/crtn.o
	cp small.h $(DESTDIR)/usr/include/stdio.h
	ln -s /usr/lib/libsmall.so $(DESTDIR)/lib/ld-small.so.1
"""
PROGRAM = "#include <stdio.h>\nint main(void) { return tide_height(); }\n"
FLAGS = "-O1 -fno-stack-protector"


class WithItsOwn(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        files = {"Makefile": MAKE, "start.c": START, "library.c": LIBRARY, "small.h": HEADER}
        for name, text in files.items():
            self.write(f"w/s/recipes/small/src/{name}", text)
        self.write("w/s/recipes/small/recipe.toml", """
            version = "1"
            licence = "MIT"
            [[source]]
            path = "src"
            [build]
            using = "make"
            loader = "/lib/ld-small.so.1"
            [package.small]
            files = ["/lib/ld-small.so.1", "/usr/lib/libsmall.so"]
            """)  # fmt: skip
        command = f"mkdir -p $DESTDIR/bin && $CC {FLAGS} $LDFLAGS -o $DESTDIR/bin/{{0}} m.c {{1}}"
        self.recipe("linked", command.format("linked", ""), {"m.c": PROGRAM})
        self.recipe("apart", command.format("apart", "-static"), {"m.c": PROGRAM})
        self.recipe("init", "mkdir -p $DESTDIR/sbin && $CC -fno-stack-protector -o $DESTDIR/sbin/init m.c", {"m.c": PROGRAM})
        self.write("w/s/images/i.toml", 'packages = ["init", "linked", "apart"]\n')
        self.profile()

    def profile(self, library: str = "small") -> None:
        self.write("w/s/profiles/p.toml", f'init = "init"\nc-library = "{library}"\n')

    def test_programs_are_linked_with_it_and_started_by_its_loader(self) -> None:
        ran = self.ran(self.yarrik_json("build", at=self.root))
        self.assertLess(ran.index("stage small"), ran.index("build linked"))
        there = self.folder / "there"
        self.yarrik("inspect", "out/p/p.img", "--extract", "/", "--to", there, at=self.root)
        facts = read_elf(there / "bin/linked")
        assert facts is not None
        self.assertEqual((facts.interpreter, facts.needed), ("/lib/ld-small.so.1", ("libsmall.so",)))
        self.assertNotIn("pie", facts.lacks)
        facts = read_elf(there / "bin/apart")
        assert facts is not None
        self.assertEqual((facts.interpreter, facts.needed), ("", ()))
        (there / "bin/apart").chmod(0o755)
        self.assertEqual(subprocess.run([there / "bin/apart"], check=False).returncode, 7)
        text = (self.root / "out/p/packages.json").read_text()
        self.assertIn('"small"', text)
        self.assertNotIn('"libc"', text)

    def test_what_it_is_built_with_is_not_linked_with_it(self) -> None:
        self.recipe("headers", "mkdir -p $DESTDIR/usr/include && echo > $DESTDIR/usr/include/tern.h")
        recipe = self.root / "s/recipes/small/recipe.toml"
        recipe.write_text(recipe.read_text().replace('using = "make"', 'using = "make"\nneeds = ["headers"]'))
        ran = self.ran(self.yarrik_json("build", at=self.root))
        self.assertLess(ran.index("stage headers"), ran.index("build small"))

    def test_another_library_builds_all_anew_and_a_change_in_it_its_users(self) -> None:
        self.yarrik("build", at=self.root)
        self.write("w/s/recipes/small/src/library.c", LIBRARY.replace("7", "8"))
        ran = self.ran(self.yarrik_json("build", at=self.root))
        self.assertIn("build linked", ran)
        self.write("w/s/images/i.toml", 'packages = ["init"]\n')
        self.recipe(
            "init", "mkdir -p $DESTDIR/sbin && $CC -o $DESTDIR/sbin/init m.c", {"m.c": "int main(void) { return 0; }\n"}
        )
        self.profile("libc")
        said = self.yarrik("build", at=self.root)
        self.assertIn("build init", said)
        self.assertNotIn("build small", said)

    def test_what_it_cannot_be_used_for(self) -> None:
        board = self.root / "s/boards/b.toml"
        text = board.read_text()
        board.write_text(text + '[toolchain]\ncompiler = "clang"\n')
        said = " ".join(self.yarrik("check", code=2, at=self.root).split())
        self.assertIn("TOOLCHAIN-FORM: the profile's C library is `small`, and the board compiles with clang", said)
        self.assertIn("b.toml", said)
        board.write_text(text)
        self.write(
            "w/s/recipes/crate/recipe.toml",
            'version = "1"\nlicence = "MIT"\n[[source]]\npath = "src"\n[build]\nusing = "cargo"\n',
        )
        self.write("w/s/recipes/crate/src/Cargo.toml", "")
        self.write("w/s/images/i.toml", 'packages = ["init", "crate"]\n')
        said = " ".join(self.yarrik("check", code=2, at=self.root).split())
        self.assertIn("TOOLCHAIN-FORM: `crate` is in Rust, and the profile's C library is `small`", said)
        self.recipe("loud", "$CXX -o loud m.cc", {"m.cc": "int main() { return 0; }\n"})
        self.write("w/s/images/i.toml", 'packages = ["init", "loud"]\n')
        said = self.yarrik("build", code=1, at=self.root)
        self.assertIn("STEP-NO-PROGRAM", said)
        self.assertIn("C++", said)


if __name__ == "__main__":
    unittest.main()
