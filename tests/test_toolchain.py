"""Compilers as they are found: real ones, and stand-ins that are broken in every way a machine can be."""

import os
import shutil
import subprocess
import unittest
from pathlib import Path
from typing import ClassVar
from unittest import mock

from tests.support import FolderTest
from yarrik.cache import Memory
from yarrik.errors import Place, YarrikError
from yarrik.host import debian_package, find_program
from yarrik.host.programs import PROGRAMS
from yarrik.plan.build_systems import BUILD_SYSTEMS
from yarrik.toolchain import RUNTIME_PACKAGES, DevelopmentFiles, Toolchain, development_files, probe


class CompilersAreProbed(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.memory = Memory(self.folder / "memory.sqlite")
        self.bin = self.folder / "bin"
        self.bin.mkdir()
        path = mock.patch.dict(os.environ, {"PATH": f"{self.bin}:{os.environ['PATH']}"})
        path.start()
        self.addCleanup(path.stop)

    def fake(self, name: str, script: str) -> Path:
        """A compiler that is a script; `real` in it stands for the build host's own."""
        path = self.bin / name
        path.write_text("#!/bin/sh\n" + script.replace("real", str(shutil.which("gcc", path="/usr/bin"))) + "\n")
        path.chmod(0o755)
        return path

    def probe(self, prefix: str, arch: str | None = None) -> Toolchain:
        return probe(prefix, self.memory, Place(), arch)

    def code(self, prefix: str, arch: str | None = None) -> tuple[str, str]:
        with self.assertRaises(YarrikError) as caught:
            self.probe(prefix, arch)
        return caught.exception.troubles[0].code, caught.exception.troubles[0].remedy

    def test_the_host_s_own_brings_its_loader_and_c_library(self) -> None:
        found = self.probe("")
        names = {Path(file.in_image).name.split(".")[0] for file in found.runtime}
        self.assertIn("libc", names)
        self.assertTrue(any(name.startswith("ld-") for name in names))
        for file in found.runtime:
            self.assertTrue(Path(file.here).is_file())
            self.assertEqual(len(file.digest), 0 if RUNTIME_PACKAGES[file.package].when_asked else 64, file)
        # Conversion modules are where the C library looks for them.
        modules = [file.in_image for file in found.runtime if file.package == "-conversions"]
        library = next(Path(file.here) for file in found.runtime if Path(file.in_image).name == "libc.so.6")
        self.assertGreater(len(modules), 100)
        for path in modules:
            self.assertIn(path.partition("/gconv/")[0].encode() + b"/gconv\0", library.read_bytes())

    def test_a_compiler_without_headers_has_nothing_for_the_board(self) -> None:
        fake = self.fake("gull-gcc", 'case $1 in -print-file-name=*) echo "${1#*=}" ;; esac')
        toolchain = Toolchain("gull-", "arm64", "aarch64-linux-gnu", "12", "0" * 64, (str(fake),), ())
        self.assertEqual(development_files(toolchain, Place()), DevelopmentFiles((), ()))

    def test_a_compiler_for_cxx_may_come_later(self) -> None:
        self.fake("gull-gcc", 'exec real "$@"')
        self.assertFalse(self.probe("gull-").cxx)
        self.assertFalse(self.probe("gull-").cxx)
        self.fake("gull-g++", 'exec real "$@"')
        self.assertTrue(self.probe("gull-").cxx)

    def test_the_cross_compiler_s_libraries_are_those_of_its_own_architecture(self) -> None:
        found = self.probe("aarch64-linux-gnu-", "arm64")
        self.assertEqual(found.arch, "arm64")
        self.assertIn("/lib/ld-linux-aarch64.so.1", {file.in_image for file in found.runtime})
        self.assertTrue(all("aarch64" in file.here for file in found.runtime if file.package != "-locale"))
        packages = {file.package for file in found.runtime}
        self.assertEqual({"", "-math", "-resolver", "-names", "-older", "libgcc", "libatomic", "sanitizers"} - packages, set())
        self.assertNotIn("-conversions", packages)  # the distribution's cross library has none

    def test_a_missing_one_names_the_debian_package(self) -> None:
        with mock.patch.dict(os.environ, {"PATH": str(self.bin)}):
            code, remedy = self.code("aarch64-linux-gnu-")
            self.assertEqual(code, "HOST-TOOL-MISSING")
            self.assertIn("gcc-aarch64-linux-gnu libc6-dev-arm64-cross", remedy)
            self.assertEqual(self.code("")[0], "HOST-TOOL-MISSING")

    def test_cc_serves_where_there_is_no_gcc(self) -> None:
        (self.bin / "cc").symlink_to(shutil.which("gcc", path="/usr/bin"))
        for name in ("as", "ld", "strip"):
            (self.bin / name).symlink_to(shutil.which(name, path="/usr/bin"))
        with mock.patch.dict(os.environ, {"PATH": str(self.bin)}):
            self.assertTrue(self.probe("").version.startswith("cc "))

    def test_one_for_another_architecture_is_refused(self) -> None:
        self.assertEqual(self.code("aarch64-linux-gnu-", "x86-64")[0], "TOOLCHAIN-ARCH")

    def test_an_architecture_nobody_knows_is_told(self) -> None:
        self.fake("odd-gcc", "echo pdp11-unknown-none")
        self.assertEqual(self.code("odd-")[0], "ARCH-UNKNOWN")

    def test_one_that_cannot_link_says_why(self) -> None:
        self.fake("half-gcc", 'case "$1" in -o) echo "cannot find crt1.o" >&2; exit 1;; esac; exec real "$@"')
        with self.assertRaises(YarrikError) as caught:
            self.probe("half-")
        self.assertIn("cannot find crt1.o", caught.exception.troubles[0].what)
        self.fake("dead-gcc", "exit 3")
        self.assertEqual(self.code("dead-")[0], "TOOLCHAIN-BROKEN")

    def test_one_that_hides_its_c_library_is_told(self) -> None:
        self.fake("shy-gcc", 'case "$1" in -print-file-name=libc*) echo libc.so.6; exit;; esac; exec real "$@"')
        code, _ = self.code("shy-")
        self.assertEqual(code, "TOOLCHAIN-RUNTIME")

    def test_what_was_learned_is_kept_until_a_program_changes(self) -> None:
        path = self.fake("own-gcc", f'echo x >> {self.folder}/asked; exec real "$@"')
        first = self.probe("own-")
        asked = (self.folder / "asked").read_text()
        self.assertEqual(self.probe("own-"), first)
        self.assertEqual((self.folder / "asked").read_text(), asked)
        path.write_text(path.read_text() + "# changed\n")
        os.utime(path, (1, 1))
        self.assertNotEqual(self.probe("own-").identity, first.identity)


class ProgramsHaveTheirPackages(unittest.TestCase):
    """The table of programs, held against what this machine's package manager knows."""

    PACKAGES: ClassVar = {
        name: debian_package(name).split()
        for name in (*PROGRAMS, *(name for system in BUILD_SYSTEMS.values() for name in system.programs))
    }

    def test_every_program_that_a_build_system_calls_has_one(self) -> None:
        self.assertEqual([name for name, packages in self.PACKAGES.items() if not packages], [])
        self.assertEqual(debian_package("ninja"), "ninja-build")
        self.assertEqual(debian_package("riscv64-linux-gnu-g++"), "g++-riscv64-linux-gnu")

    def test_each_package_is_in_the_archive_s_index(self) -> None:
        done = (
            subprocess.run(["apt-cache", "pkgnames"], capture_output=True, text=True, check=False)
            if shutil.which("apt-cache")
            else None
        )
        known = set(done.stdout.split()) if done is not None else set()
        if len(known) < 10_000:
            self.skipTest("no package manager with an index of the archive is on this machine")
        named = {package for packages in self.PACKAGES.values() for package in packages}
        self.assertEqual(named - known, set())

    def test_those_that_are_installed_bring_the_program(self) -> None:
        seen = 0
        for name, packages in self.PACKAGES.items():
            path = find_program(name)
            if path is None or len(packages) != 1 or not shutil.which("dpkg-query"):
                continue
            real = {path, os.path.realpath(path), path.replace("/usr/", "/", 1)}
            owners = subprocess.run(["dpkg-query", "-S", *real], capture_output=True, text=True, check=False).stdout
            listed = subprocess.run(["dpkg-query", "-L", *packages], capture_output=True, text=True, check=False)
            if listed.returncode == 0 and owners:
                # What alternatives lead to belongs to one package among several.
                self.assertTrue(real & set(listed.stdout.split()) or packages[0] in owners, f"{name}: {packages}, {owners}")
                seen += 1
        self.assertGreater(seen, 5)


if __name__ == "__main__":
    unittest.main()
