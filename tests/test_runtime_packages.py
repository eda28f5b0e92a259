"""The toolchain's run-time files in packages: an image gets those that its programs load, and others when it asks."""

from __future__ import annotations

import json
import re
import subprocess
import unittest
from pathlib import Path

from tests.support import WorkspaceTest
from yarrik.elf import read_elf

CXX = "#include <iostream>\nint main() { std::cout << 1; try { throw 1; } catch (int) { return 0; } }\n"
THREADS = """
#include <pthread.h>
static void *f(void *x) { pthread_exit(x); }
int main(void) { pthread_t t; pthread_create(&t, 0, f, 0); return pthread_join(t, 0); }
"""
CONVERTS = """
#include <iconv.h>
int main(void) { return iconv_open("UTF-8", "EUC-JP") == (iconv_t)-1; }
"""
WIDE = """
#include <locale.h>
#include <wchar.h>
int main(void) { wchar_t c; return !setlocale(LC_ALL, "C.UTF-8") || mbrtowc(&c, "\\xc3\\xa4", 2, 0) != 2; }
"""

DEVELOPED = """
#include <math.h>
#include <stdlib.h>
__attribute__((visibility("hidden"))) void *__dso_handle; /* the compiler's own start files would have it */
static void end(void) { _Exit(2); }
int main(int n, char **v) { (void)v; return atexit(end) || sqrt(n) != 1; }
"""


class WhatAnImageGets(WorkspaceTest):
    def program(self, name: str, source: str, flags: str = "", compiler: str = "$CC") -> None:
        self.recipe(name, f"mkdir -p $DESTDIR/bin && {compiler} -o $DESTDIR/bin/{name} main.* {flags}",
                    {"main.cc" if compiler == "$CXX" else "main.c": source})  # fmt: skip

    def built(self, *names: str) -> dict[str, str]:
        """Builds an image with these packages; why each of its packages is in it, without those that all have."""
        (self.root / "s/images/i.toml").write_text(f"packages = {json.dumps(['init', *names])}\n")
        self.yarrik("build", at=self.root)
        found = json.loads((self.root / "out/p/packages.json").read_text())["packages"]
        return {one["name"]: one["because"] for one in found if one["name"] not in ("init", "kernel", *names)}

    def laid_out(self) -> Path:
        there = self.folder / "root"
        there.mkdir()
        self.yarrik("inspect", "out/p/p.img", "--extract", "/", "--to", there, at=self.root)
        return there

    def run_in(self, root: Path, program: str) -> int:
        """The exit code of a program in a root filesystem, with nothing else around it; less than 0 is a signal."""
        words = ["unshare", "--user", "--map-root-user", "chroot", root, program]
        done = subprocess.run([str(word) for word in words], capture_output=True, check=False, timeout=60)
        return done.returncode - 256 * (done.returncode > 128) + 128 * (done.returncode > 128)

    def test_only_what_is_loaded(self) -> None:
        self.assertEqual(set(self.built()), {"libc"})

    def test_cxx_threads_and_mathematics(self) -> None:
        self.program("cxx", CXX, compiler="$CXX")
        self.program("threads", THREADS)
        self.program("round", "#include <math.h>\nint main(int n, char **v) { return (int)sin(n) + !v; }\n", "-lm")
        found = self.built("threads")
        self.assertEqual(set(found), {"libc", "libgcc"})
        self.assertEqual(found["libgcc"], "/bin/threads calls pthread_exit, which loads libgcc_s.so.1")
        self.assertEqual(set(self.built("round")), {"libc", "libc-math"})
        found = self.built("cxx", "threads")
        self.assertEqual(set(found), {"libc", "libc-math", "libgcc", "libstdcxx"})
        self.assertEqual(found["libstdcxx"], "/bin/cxx loads libstdc++.so.6")
        root = self.laid_out()
        self.assertEqual([self.run_in(root, f"/bin/{name}") for name in ("cxx", "threads")], [0, 0])
        # That the unwinder is needed: the C library ends the program without it.
        (root / "lib/libgcc_s.so.1").unlink()
        self.assertNotEqual(self.run_in(root, "/bin/threads"), 0)

    def test_conversions_and_utf_8_when_asked(self) -> None:
        self.program("converts", CONVERTS)
        self.program("wide", WIDE)
        self.assertEqual(set(self.built("converts", "wide")), {"libc"})
        root = self.laid_out()
        self.assertEqual([self.run_in(root, f"/bin/{name}") for name in ("converts", "wide")], [1, 1])
        root.rename(self.folder / "before")
        self.built("converts", "wide", "libc-conversions")
        image = self.root / "s/images/i.toml"
        image.write_text('locale = "C.UTF-8"\n' + image.read_text())
        self.yarrik("build", at=self.root)
        root = self.laid_out()
        self.assertEqual([self.run_in(root, f"/bin/{name}") for name in ("converts", "wide")], [0, 0])
        self.assertIn("locale of the image i", (self.root / "out/p/packages.json").read_text())

    def test_headers_and_names_for_the_linker_when_asked(self) -> None:
        found = self.built("libc-development")
        self.assertEqual(set(found), {"libc", "libc-math", "libc-resolver"})
        root = self.laid_out()
        self.assertEqual((root / "usr/include/stdio.h").stat().st_mode & 0o777, 0o644)
        self.assertTrue((root / "usr/include/linux/version.h").is_file())
        self.assertFalse((root / "usr/include/c++").exists())
        self.assertFalse((root / "usr/include/stddef.h").exists())  # it is the compiler's
        self.assertEqual((root / "usr/lib/libresolv.so").readlink(), Path("/lib/libresolv.so.2"))
        for name in ("libc", "libm"):
            script = (root / f"usr/lib/{name}.so").read_text()
            for path in re.findall(r"/[\w./+-]+(?=[\s)])", script.partition("GROUP")[2]):
                self.assertTrue((root / path.strip("/")).is_file(), path)
            self.assertIn(f"/lib/{name}.so.6", script)
        # With nothing else of this machine than compiler and linker, a program is made that runs there.
        main = self.write("main.c", DEVELOPED)
        headers = self.tool("gcc", "-print-file-name=include").strip()
        self.tool("gcc", "-O1", "-fno-pie", "-fno-builtin", "-nostdinc", f"-I{root}/usr/include", "-isystem", headers,
                  "-c", main, "-o", self.folder / "main.o")  # fmt: skip
        shell = read_elf(Path("/bin/sh").resolve())
        assert shell is not None
        at = root / "usr/lib"
        words = ["ld", "-nostdlib", f"--sysroot={root}", "-dynamic-linker", shell.interpreter, "-o", root / "lib/main",
                 at / "crt1.o", at / "crti.o", self.folder / "main.o", "-L=/usr/lib", "-lm", "-lc", at / "crtn.o"]  # fmt: skip
        self.tool(*words)
        self.assertEqual(self.run_in(root, "/lib/main"), 2)
        (at / "libm.so").unlink()
        self.assertIn("cannot find -lm", self.tool(*words, ok=(1,)))

    def test_sanitizers_when_asked(self) -> None:
        self.program("checked", "int main(void) { return 0; }\n", "-fsanitize=undefined")
        (self.root / "s/images/i.toml").write_text('packages = ["init", "checked"]\n')
        said = self.yarrik("build", code=1, at=self.root)
        self.assertIn("LIBRARY-MISSING: /bin/checked of the package `checked` loads libubsan.so.1", said)
        self.assertIn("add `sanitizers` to the image's `packages`", said)
        self.assertIn("libstdcxx", self.built("checked", "sanitizers"))

    def test_what_a_toolchain_has_not(self) -> None:
        board = self.root / "s/boards/b.toml"
        board.write_text(
            board.read_text().replace('arch = "host"', 'arch = "arm64"\n[toolchain]\nprefix = "aarch64-linux-gnu-"\n')
        )
        (self.root / "s/images/i.toml").write_text('packages = ["init", "libc-conversions"]\n')
        said = self.yarrik("build", code=2, at=self.root)
        self.assertIn("TOOLCHAIN-RUNTIME", said)
        self.assertIn("has nothing for the package `libc-conversions`", said)


if __name__ == "__main__":
    unittest.main()
