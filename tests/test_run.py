"""The sandbox, archives, kernel configuration, and sharing files out among packages."""

import errno
import gzip
import io
import os
import struct
import tarfile
import unittest
from pathlib import Path
from unittest.mock import patch

from tests.support import FolderTest, WorkspaceTest
from yarrik.beneath import Folder
from yarrik.cache import Entry, Store, Tree
from yarrik.elf import ElfFacts, read_elf
from yarrik.errors import YarrikError
from yarrik.model import Attributes, PackageRule
from yarrik.plan import Split
from yarrik.run.kernel_config import lost_options, options
from yarrik.run.packages import decode_packages, encode_packages, split_packages
from yarrik.run.sandbox import Sandbox
from yarrik.run.step_logs import new_log
from yarrik.run.work_folders import WorkFolders
from yarrik.sources import misfits, unpack_archive


class TheSandboxShutsOff(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.work = self.folder / "work"
        for name in ("source", "tools", "home"):
            (self.work / name).mkdir(parents=True)
        self.sandbox = Sandbox()
        self.assertIsNotNone(self.sandbox.bubblewrap, "bubblewrap is missing or does not work here")

    def run_in(self, script: str, sandbox: Sandbox | None = None, **environment: str) -> tuple[int, str]:
        log = self.folder / "log"
        with log.open("wb") as sink:
            code = (sandbox or self.sandbox).run(
                ["sh", "-e", "-c", script], self.work, "{step}/source", environment, ("tools",), 3, sink
            )
        return code, log.read_text().partition("\n")[2]

    def test_paths_user_host_umask_locale_and_zone_are_the_same_everywhere(self) -> None:
        os.environ["LEAK"] = "1"
        self.addCleanup(os.environ.pop, "LEAK")
        code, said = self.run_in('pwd; id -u; uname -n; umask; echo "$LC_ALL $TZ $LEAK"; echo {jobs}', A="{step}/x")
        self.assertEqual((code, said), (0, "/step/source\n1000\nyarrik\n0022\nC UTC0 \n3\n"))

    def test_only_declared_names_are_in_the_environment(self) -> None:
        _, said = self.run_in("env | cut -d= -f1 | sort | tr '\\n' ' '", CFLAGS="-O2")
        self.assertEqual(said.split(), ["CFLAGS", "HOME", "LC_ALL", "PATH", "PWD", "TMPDIR", "TZ"])

    def test_there_is_no_network_and_no_other_process(self) -> None:
        _, said = self.run_in("cat /proc/net/dev | grep -c : ; ls /proc | grep -c '^[0-9]'")
        devices, processes = map(int, said.split())
        self.assertEqual(devices, 1)  # the loopback alone
        self.assertLess(processes, 8)

    def test_nothing_outside_can_be_read_or_written(self) -> None:
        self.write("secret", "x")
        for script in (f"cat {self.folder}/secret", "echo x > /usr/x", "echo x > {step}/tools/x", "cat /etc/shadow"):
            code, said = self.run_in(script)
            self.assertNotEqual(code, 0, said)
        self.assertEqual(self.run_in("echo x > {step}/source/x")[0], 0)
        self.assertEqual((self.work / "source/x").read_text(), "x\n")

    def test_without_it_the_same_commands_run_in_their_own_folder(self) -> None:
        plain = Sandbox(allowed=False)
        code, said = self.run_in("pwd; umask; echo $TZ", plain)
        self.assertEqual((code, said), (0, f"{self.work}/source\n0022\nUTC0\n"))
        self.assertIn("without a sandbox", plain.note)
        self.assertEqual(self.sandbox.note, "")

    def test_a_program_that_is_not_there_is_an_exit_code_and_a_word_in_the_log(self) -> None:
        with (self.folder / "log").open("wb") as sink:
            code = Sandbox(allowed=False).run(["no-such-program"], self.work, "{step}", {}, (), 1, sink)
        self.assertEqual(code, 127)
        self.assertIn("cannot be started", (self.folder / "log").read_text())


class WorkFoldersAreClearedAway(FolderTest):
    def test_each_goes_when_its_step_ends(self) -> None:
        folders = WorkFolders(self.folder / "work")
        for _ in range(2):
            with folders.folder() as one:
                one.below.make_folder("deep")
            self.assertFalse(one.path.exists())
            self.assertEqual(one.below.handle, -1)
        folders.close()
        self.assertEqual([path.name for path in (self.folder / "work").iterdir()], [])

    def test_those_of_steps_are_apart_on_the_disk(self) -> None:
        asked: list[tuple[int, bytes]] = []

        def ioctl(handle: int, number: int, data: bytes) -> bytes:
            asked.append((number, data))
            return struct.pack("I", 0x80000).ljust(len(data), b"\0")  # EXT4_EXTENTS_FL, which has to stay

        names = []
        for _ in range(2):
            folders = WorkFolders(self.folder / "work")
            with patch("fcntl.ioctl", ioctl), folders.folder() as one, folders.folder() as other:
                names += [one.path.name, other.path.name]
            folders.close()
        size = struct.calcsize("l")
        # The numbers that linux/fs.h has where a `long` has 64 bits, and where it has 32.
        get, put = {8: (0x80086601, 0x40086602), 4: (0x80046601, 0x40046602)}[size]
        pair = [(get, bytes(size)), (put, struct.pack("I", 0xA0000).ljust(size, b"\0"))]
        self.assertEqual(asked, pair * 2)  # once for all of a build
        self.assertEqual(len(set(names)), 4)  # a name decides of the place too

    def test_a_file_system_without_such_a_mark_does_as_well(self) -> None:
        folders = WorkFolders(self.folder / "work")
        with patch("fcntl.ioctl", side_effect=OSError(errno.EOPNOTSUPP, "no")) as asked, folders.folder() as one:
            one.below.write("file", b"x")
            self.assertEqual(one.path.joinpath("file").read_bytes(), b"x")
        self.assertEqual(asked.call_count, 1)
        folders.close()

    def test_those_of_the_dead_go_and_those_of_the_living_stay(self) -> None:
        (self.folder / "build-dead_123").mkdir()
        (self.folder / "build-dead_123/file").write_text("x")
        (self.folder / "build-gone_123.lock").write_text("")
        (self.folder / "build-dead_123").chmod(0o500)
        folders = WorkFolders(self.folder)
        with folders.folder() as place, folders.folder() as unused:
            place.below.write("file", b"x")
            alive = place.path
            self.assertFalse(unused.path.exists())  # nobody asked for it
            # The lock belongs to this process; another one must not get it.
            script = f"from yarrik.run.work_folders import WorkFolders; from pathlib import Path; WorkFolders.clear_left_behind(Path({str(self.folder)!r}))"
            import subprocess
            import sys

            subprocess.run([sys.executable, "-c", script], check=True)
            self.assertTrue(alive.is_dir())
            self.assertFalse((self.folder / "build-dead_123").exists())
            self.assertFalse((self.folder / "build-gone_123.lock").exists())
        self.assertFalse(alive.exists())
        folders.close()
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_what_others_have_in_that_place_stays(self) -> None:
        for name in ("letters", "build-notes", "build-12345678x", "Cargo"):
            self.write(f"top/{name}/text", "mine")
            self.write(f"top/{name}.lock", "mine")
        (self.folder / "link").symlink_to(self.folder / "top")
        self.write("top/build-12345678/text", "left by a killed build")
        before = sorted(path.name for path in (self.folder / "top").iterdir())
        WorkFolders.clear_left_behind(self.folder / "link")
        self.assertEqual(sorted(path.name for path in (self.folder / "top").iterdir()), before)
        WorkFolders.clear_left_behind(self.folder / "top")
        self.assertEqual(
            sorted(path.name for path in (self.folder / "top").iterdir()), [one for one in before if one != "build-12345678"]
        )
        self.assertEqual((self.folder / "top/Cargo.lock").read_text(), "mine")


class LogsBegin(FolderTest):
    def test_what_is_in_the_place_of_one_is_not_written_to(self) -> None:
        path, victim = self.folder / "logs/p/build-x.log", self.write("victim", "mine")
        path.parent.mkdir(parents=True)
        path.symlink_to(victim)
        Path(f"{path.parent}/.{path.name}.{os.getpid()}").symlink_to(victim)
        with new_log(path) as log:
            log.write(b"began\n")
        self.assertEqual(victim.read_text(), "mine")
        self.assertEqual((path.read_text(), path.is_symlink()), ("began\n", False))


class ArchivesAreUnpackedSafely(FolderTest):
    def unpack(self, *members: tuple[str, str, str]) -> dict[str, Entry]:
        """Members are (kind, name, content or target)."""
        raw = io.BytesIO()
        with tarfile.open(fileobj=raw, mode="w") as tar:
            for kind, name, content in members:
                member = tarfile.TarInfo(name)
                member.type = {"f": tarfile.REGTYPE, "d": tarfile.DIRTYPE, "l": tarfile.SYMTYPE, "h": tarfile.LNKTYPE,
                               "c": tarfile.CHRTYPE}[kind]  # fmt: skip
                member.mode = 0o777
                if kind == "f":
                    member.size = len(content)
                else:
                    member.linkname = content
                tar.addfile(member, io.BytesIO(content.encode()))
        archive = self.write("a.tar.gz", gzip.compress(raw.getvalue()))
        return unpack_archive(archive, "a.tar.gz", Store(self.folder / "store")).by_path

    def test_a_single_top_folder_is_left_out_and_modes_are_plain(self) -> None:
        found = self.unpack(("d", "top", ""), ("f", "top/a/b", "text"), ("l", "top/link", "a/b"), ("h", "top/hard", "top/a/b"))
        self.assertEqual(sorted(found), ["a", "a/b", "hard", "link"])
        self.assertEqual((found["a/b"].mode, found["hard"].content), (0o755, found["a/b"].content))

    def test_members_that_lead_out_or_are_devices_are_refused(self) -> None:
        for members in (
            [("f", "../x", "")],
            [("f", "/etc/x", "")],
            [("f", "a/../../x", "")],
            [("l", "a", "/etc"), ("f", "a/passwd", "x"), ("f", "b", "")],
            [("h", "a", "/etc/passwd")],
            [("c", "a", "")],
        ):
            with self.assertRaises(YarrikError, msg=members) as caught:
                self.unpack(*members)
            self.assertEqual(caught.exception.troubles[0].code, "ARCHIVE-UNFIT")

    def test_a_damaged_archive_is_told(self) -> None:
        for data in (b"", b"no archive at all", gzip.compress(b"x" * 2000)[:-9], b"\xfd7zXZ\0broken"):
            with self.assertRaises(YarrikError):
                unpack_archive(self.write("bad.tar", data), "bad.tar", Store(self.folder / "store"))


class KernelOptionsThatDidNotSurviveAreNamed(FolderTest):
    def test_with_line_and_what_they_depend_on(self) -> None:
        self.write(
            "src/drivers/Kconfig",
            'config GAUGE\n\tbool "Gauge"\n\tdepends on SERIAL && OF\n\tdepends on !HELD\nconfig OTHER\n\tbool\n',
        )
        fragment = "CONFIG_GOOD=y\nCONFIG_GAUGE=y\nCONFIG_TYPO=y\n# CONFIG_HELD is not set\nCONFIG_MOD=m\nCONFIG_OTHER=y\n"
        final = "CONFIG_GOOD=y\n# CONFIG_GAUGE is not set\nCONFIG_HELD=y\nCONFIG_MOD=y\n"
        found = list(lost_options(fragment, Path("f.kcfg"), final, Folder.at(self.folder / "src")))
        self.assertEqual([(t.place.key, t.place.line) for t in found],
                         [("CONFIG_GAUGE", 2), ("CONFIG_TYPO", 3), ("CONFIG_HELD", 4), ("CONFIG_OTHER", 6)])  # fmt: skip
        self.assertEqual(
            found[0].why, "it depends on `SERIAL && OF`, where SERIAL and OF are not set; and on `!HELD`, where HELD is set"
        )
        self.assertIn("no Kconfig file", found[1].why)
        self.assertIn("it has no prompt", found[3].why)
        self.assertIn("CONFIG_HELD=n was asked for and came out as y", found[2].what)

    def lost(self, fragment: str, *have: str, head: str = "arm64") -> str:
        final = f"#\n# Linux/{head} 6.1.0 Kernel Configuration\n#\n" + "".join(f"CONFIG_{word}\n" for word in have)
        found = list(lost_options(fragment, Path("f.kcfg"), final, Folder.at(self.folder / "src")))
        self.assertEqual(len(found), 1)
        return f"{found[0].what}; {found[0].why}; {found[0].remedy}"

    def test_mistake_24_the_reason_is_the_kernel_s_own(self) -> None:
        self.write("src/Kconfig", 'source "sound/Kconfig"\nsource "arch/$(SRCARCH)/Kconfig"\n')
        self.write(
            "src/sound/Kconfig",
            'menuconfig SOUND\n\ttristate "Sound"\n\thelp\n\t  Words of help.\n\n\t  depends on nothing\n\nif SOUND\n'
            'menu "Chips"\n\tdepends on BUS\nsource "sound/soc/Kconfig"\nendmenu\nendif\n'
            'config HIDDEN\n\tbool\nconfig CHOSEN\n\ttristate "Chosen" if EXPERT\n',
        )
        self.write(
            "src/sound/soc/Kconfig",
            'config SOC\n\ttristate "SoC" # as a module too\n\tselect HIDDEN\n\tselect CHOSEN if \\\n\t\tSOUND = y\nconfig FLAG\n\tbool "Flag"\n',
        )
        self.write("src/arch/x86/Kconfig", 'config PLACE\n\tbool "Place"\n\tdepends on EXPERT\n')
        for head in ("x86", "x86_64"):
            self.assertIn("it depends on EXPERT", self.lost("CONFIG_PLACE=y", head=head))
        self.write("src/arch/arm64/Kconfig", "")
        self.assertIn("no Kconfig file of this kernel", self.lost("CONFIG_PLACE=y"))
        self.write("src/arch/mips/Kconfig", 'config SOC\n\ttristate "another"\n\tdepends on NOWHERE\n')
        for fragment, have, words in (
            ("CONFIG_SOC=y", ["BUS=y"], "it depends on SOUND, which is not set; add CONFIG_SOUND=y to the same fragment"),
            ("CONFIG_SOC=y", [], "SOUND, which is not set; and on BUS, which is not set; add CONFIG_SOUND=y and CONFIG_BUS=y"),
            ("CONFIG_SOC=y", ["SOUND=m", "BUS=y", "SOC=m"], "it depends on SOUND, which is only m; add CONFIG_SOUND=y"),
            ("CONFIG_FLAG=m", ["SOUND=y", "BUS=y", "FLAG=y"], "a `bool`, which knows only yes and no; write CONFIG_FLAG=y"),
            ("CONFIG_HIDDEN=y", ["SOUND=y", "BUS=y"], "it has no prompt, so no fragment can set it: SOC selects it"),
            ("CONFIG_CHOSEN=n", ["SOUND=y", "SOC=m", "CHOSEN=m"], "SOC selects it; turn off CONFIG_SOC"),
            ("CONFIG_CHOSEN=n", ["SOUND=m", "SOC=m", "CHOSEN=m"], "another option holds it where it is"),
            ("CONFIG_CHOSEN=y", ["SOUND=m"], "it depends on EXPERT, which is not set"),
        ):
            with self.subTest(fragment, have=have):
                self.assertIn(words, self.lost(fragment, *have))

    def test_the_last_word_on_an_option_counts(self) -> None:
        self.assertEqual(options("CONFIG_A=y\n# CONFIG_A is not set\n"), {"CONFIG_A": ("n", 2)})


class FilesAreSharedOut(unittest.TestCase):
    tree = Tree.of(
        [
            *(Entry(folder, "folder", 0o755, 0, "") for folder in ("usr", "usr/bin", "usr/lib", "usr/include", "var", "var/lib", "var/lib/x")),
            Entry("usr/bin/one", "file", 0o755, 10, "1" * 64),
            Entry("usr/bin/two", "file", 0o755, 20, "2" * 64),
            Entry("usr/lib/libx.so.1", "file", 0o755, 30, "3" * 64),
            Entry("usr/lib/libx.so", "link", 0o777, 9, "libx.so.1"),
            Entry("usr/include/x.h", "file", 0o644, 5, "4" * 64),
        ]
    )  # fmt: skip

    def split(self, **packages: PackageRule):
        action = Split(recipe="r", version="1", licence="MIT", summary="s", packages=packages)
        elf = {"3" * 64: ElfFacts("arm64", "library", "", "libx.so.1", ("libc.so.6",))}
        return split_packages(action, self.tree, elf.get)

    def codes(self, **packages: PackageRule) -> list[str]:
        with self.assertRaises(YarrikError) as caught:
            self.split(**packages)
        return [trouble.code for trouble in caught.exception.troubles]

    def test_patterns_folders_and_elf_facts(self) -> None:
        packages, notes = self.split(
            lib=PackageRule(files=("/usr/lib/*.so.*",)),
            bin=PackageRule(
                files=("/usr/bin", "/var/lib/x"), attributes=(Attributes(path="/var/lib/x", owner="u", mode="0700"),)
            ),
        )
        by_name = {package.name: package for package in packages}
        self.assertEqual([p.path for p in by_name["lib"].paths], ["/usr/lib/libx.so.1"])
        self.assertEqual(by_name["lib"].elf["/usr/lib/libx.so.1"].needed, ("libc.so.6",))
        self.assertEqual([(p.path, p.mode, p.owner) for p in by_name["bin"].paths],
                         [("/usr/bin/one", 0o755, "root"), ("/usr/bin/two", 0o755, "root"), ("/var/lib/x", 0o700, "u")])  # fmt: skip
        self.assertEqual(notes, [])  # headers and the link for building need no package
        self.assertEqual(decode_packages(encode_packages(packages)), packages)

    def test_what_no_package_takes_is_a_note(self) -> None:
        _, notes = self.split(lib=PackageRule(files=("/usr/lib/*.so.*",)))
        self.assertEqual(notes, ["no package of `r` takes /usr/bin/one, /usr/bin/two"])

    def test_what_the_build_did_not_produce_is_an_error_with_the_nearest(self) -> None:
        with self.assertRaises(YarrikError) as caught:
            self.split(bin=PackageRule(files=("/usr/bin/onee",)))
        self.assertIn("`/usr/bin/one`", caught.exception.troubles[0].remedy)

    def test_two_packages_cannot_take_the_same_file(self) -> None:
        self.assertEqual(
            self.codes(a=PackageRule(files=("/usr/bin",)), b=PackageRule(files=("/usr/bin/one",))), ["PACKAGE-FILE-TWICE"]
        )

    def test_the_rest_of_a_folder_is_what_no_package_lists(self) -> None:
        packages, notes = self.split(more=PackageRule(rest=("/usr/bin/**",)), one=PackageRule(files=("/usr/bin/one",)))
        self.assertEqual(
            {package.name: [path.path for path in package.paths] for package in packages},
            {"more": ["/usr/bin/two"], "one": ["/usr/bin/one"]},
        )
        self.assertEqual(notes, ["no package of `r` takes /usr/lib/libx.so.1"])
        # Nobody gets by it what only serves building, and there is no rest of what others take as a whole.
        packages, notes = self.split(all=PackageRule(rest=("**",)))
        self.assertEqual([path.path for path in packages[0].paths][-1], "/var/lib/x")
        self.assertNotIn("/usr/include/x.h", [path.path for path in packages[0].paths])
        self.assertEqual(notes, [])
        whole = PackageRule(files=("/usr/bin",))
        self.assertEqual(self.codes(a=whole, b=PackageRule(rest=("/usr/bin/**",))), ["PACKAGE-FILE-MISSING"])
        twice = self.codes(a=PackageRule(rest=("/usr/bin/**",)), b=PackageRule(rest=("/usr/bin/t*",)))
        self.assertEqual(twice, ["PACKAGE-FILE-TWICE"])

    def test_attributes_of_what_is_not_there_are_told(self) -> None:
        wrong = PackageRule(files=("/usr/bin",), attributes=(Attributes(path="/usr/bin/three"),))
        self.assertEqual(self.codes(a=wrong), ["PACKAGE-ATTRIBUTES"])


class ElfFilesAreRead(FolderTest):
    def test_the_build_host_s_own_shell(self) -> None:
        facts = read_elf(Path("/bin/sh").resolve())
        self.assertEqual(facts.kind, "program")
        self.assertTrue(facts.interpreter.startswith("/lib"))
        self.assertTrue(any(name.startswith("libc.") for name in facts.needed))

    def test_other_files_are_none_and_broken_ones_are_told(self) -> None:
        self.assertIsNone(read_elf(self.write("text", "no")))
        whole = Path("/bin/sh").resolve().read_bytes()
        for data in (b"\x7fELF", b"\x7fELF" + bytes(60), whole[:200]):
            with self.assertRaisesRegex(ValueError, "does not read as one"):
                read_elf(self.write("broken", data))


class PatchesThatDoNotFitAreExplained(FolderTest):
    def sources(self) -> Folder:
        folder = Folder.at(self.folder / "source")
        self.addCleanup(folder.close)
        return folder

    PATCH = (
        "--- a/x.c\n+++ b/x.c\n@@ -1,3 +1,4 @@\n one\n-two\n+TWO\n+2\n three\n@@ -9,2 +10,2 @@\n nine\n-ten\n+TEN\n"
        "--- a/gone.c\n+++ b/gone.c\n@@ -5 +5 @@\n-old\n+new\n--- /dev/null\n+++ b/fresh.c\n@@ -0,0 +1 @@\n+new\n"
    )

    def told(self, text: str) -> list[tuple]:
        self.write("source/x.c", text)
        found = misfits(self.PATCH, self.sources())
        return [(one.hunk.file, one.line, one.wanted, one.found, one.hunk.at) for one in found]

    def test_each_hunk_that_does_not_fit_with_the_first_line_that_differs(self) -> None:
        gone = ("gone.c", 0, "old", None, 15)
        lines = [f"{word}\n" for word in ("one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten")]
        self.assertEqual(self.told("".join(lines)), [gone])
        self.assertEqual(self.told("".join(["more\n", *lines])), [gone])  # moved, and still to be found
        self.assertEqual(self.told("".join(lines).replace("two", "zwei")), [("x.c", 2, "two", "zwei", 3), gone])
        self.assertEqual(self.told("".join(lines[:9])), [("x.c", 10, "ten", None, 9), gone])

    def test_a_line_number_of_thousands_of_digits_is_none(self) -> None:
        (self.folder / "source").mkdir()
        for hunk in (f"@@ -3,{'7' * 5000} +1 @@", f"@@ -{'7' * 5000} +1 @@"):
            self.assertEqual(misfits(f"--- a/x\n+++ b/x\n{hunk}\n-y\n+z\n", self.sources()), [])

    def test_paths_that_lead_out_are_not_looked_at(self) -> None:
        self.write("secret", "x\n")
        (self.folder / "source").mkdir()
        found = misfits("--- a/../secret\n+++ b/../secret\n@@ -1 +1 @@\n-y\n+z\n", self.sources())
        self.assertEqual((found[0].line, found[0].found), (0, None))


class StepsThatReachOutAreTold(WorkspaceTest):
    def test_27_the_network_and_programs_that_nobody_named(self) -> None:
        self.write("w/s/images/i.toml", 'packages = ["init", "app"]\n')
        for command, code, words in (
            ("git clone https://git.example.org/x.git", "STEP-NETWORK", "let a [[source]]"),
            ("tidegen --all", "STEP-NO-PROGRAM", "build.tools"),
            ("bc -l", "STEP-NO-PROGRAM", 'programs = ["bc"]'),
            ("make", "STEP-NO-PROGRAM", "bison2000"),
            ("aarch64-linux-gnu-g++ -c x.cc", "STEP-NO-PROGRAM", 'programs = ["aarch64-linux-gnu-g++"]'),
            (
                "echo 'configure: error: no acceptable C compiler found in $PATH'; exit 1",
                "STEP-NO-PROGRAM",
                'programs = ["gcc"]',
            ),
            ("no -c x.cc", "STEP-NO-PROGRAM", "the one for C (on Debian: g++-TRIPLET"),
            ("false", "STEP-FAILED", "yarrik log build app"),
        ):
            self.recipe("app", command, {"Makefile": "all:\n\tbison2000 x.y\n"}, 'programs = ["git", "make"]')
            trouble = self.yarrik_json("build", code=1, at=self.root)["troubles"][0]
            self.assertEqual(trouble["code"], code, trouble)
            self.assertIn(words, trouble["remedy"])


if __name__ == "__main__":
    unittest.main()
