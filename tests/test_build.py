"""Builds driven as a user drives them: what runs, what is kept, what is said, and what lies in out/."""

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path

from tests.support import ProgramTest, WorkspaceTest
from yarrik.disk.gpt import read_table

RECIPES = "shelves/harbour/recipes"


class TheDemoBuiltAnew(ProgramTest):
    def test_everything_that_a_board_needs_lies_in_out(self) -> None:
        root = self.folder / "demo"
        self.yarrik("demo", root, "--product", "tide-office")
        out = root / "out/tide-office"
        self.assertEqual(
            sorted(file.name for file in out.iterdir()),
            ["SHA256SUMS", "boot-story.txt", "build.json", "files.json", "packages.json", "steps.log", "tide-office.img"],
        )
        subprocess.run(["sha256sum", "--check", "--quiet", "SHA256SUMS"], cwd=out, check=True)
        packages = json.loads((out / "packages.json").read_text())
        because = {package["name"]: package["because"] for package in packages["packages"]}
        self.assertEqual(
            sorted(because), ["harbour-init", "harbour-shell", "libc", "libc-math", "libtide", "stand-in", "tide", "tidelog"]
        )
        self.assertRegex(because["libtide"], r"^/usr/bin/tide(log)? loads libtide\.so\.2$")
        self.assertNotIn("tablegen", because)
        rows = {row["path"]: row for row in json.loads((out / "files.json").read_text())["files"]}
        self.assertEqual(
            rows["/var/lib/tide"],
            {"path": "/var/lib/tide", "kind": "folder", "mode": "0750", "uid": 100, "gid": 100, "package": "tidelog"},
        )
        self.assertEqual(rows["/usr/lib/libtide.so.2"]["to"], "libtide.so.2.0")
        self.assertNotIn("/usr/include/tide.h", rows)
        build = json.loads((out / "build.json").read_text())
        self.assertTrue(all(step["fingerprint"] and step["reason"] for step in build["steps"]))
        self.assertIn("== build libtide: ran", (out / "steps.log").read_text())
        self.assertIn("-Wl,-soname,libtide.so.2", (out / "steps.log").read_text())


class TheDemoOnTheHost(ProgramTest):
    """The office's product: it needs nothing but the build host's own compiler."""

    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "demo"
        self.seed()
        self.yarrik("demo", self.root, "--product", "tide-office")

    def edit(self, file: str, old: str, new: str) -> None:
        path = self.root / file
        text = path.read_text()
        self.assertIn(old, text)
        path.write_text(text.replace(old, new))

    def build(self, *words: str) -> dict:
        return self.yarrik_json("build", "tide-office", *words, at=self.root)

    def test_partition_and_filesystem_are_sound_and_hold_what_the_manifest_says(self) -> None:
        out = self.root / "out/tide-office"
        image = out / "tide-office.img"
        self.assertIn("No problems found", self.tool("sgdisk", "-v", image))
        with image.open("rb") as file:
            (entry,) = read_table(file, image.stat().st_size // 512).entries
            file.seek(entry.first * 512)
            part = self.folder / "part.img"
            part.write_bytes(file.read((entry.last - entry.first + 1) * 512))
        self.assertNotIn("WARNING", self.tool("e2fsck", "-fn", part))
        self.assertRegex(self.tool("debugfs", "-R", "ls -l /var/lib", part), r"40750 \(2\)\s+100\s+100\s.* tide\n")
        self.assertRegex(self.tool("debugfs", "-R", "ls -l /etc", part), r"100600 \(1\)\s+0\s+0\s.* shadow\n")
        self.assertIn("dock\n", self.tool("debugfs", "-R", "cat /etc/hostname", part))
        menu = self.tool("debugfs", "-R", "cat /boot/extlinux/extlinux.conf", part)
        self.assertIn(f"append root=PARTUUID={entry.guid} rootfstype=ext4 rootwait rw console=ttyS0,115200", menu)
        self.tool("debugfs", "-R", f"rdump / {self.folder}", part)
        for row in json.loads((out / "files.json").read_text())["files"]:
            if row["kind"] == "file":
                digest = self.tool("sha256sum", self.folder / row["path"][1:]).split()[0]
                self.assertEqual(digest, row["sha256"], row["path"])

    def test_the_programs_run_with_the_libraries_of_the_image_alone(self) -> None:
        part = self.folder / "part.img"
        subprocess.run(
            ["dd", f"if={self.root}/out/tide-office/tide-office.img", f"of={part}", "bs=1M", "skip=1", "status=none"],
            check=True,
        )
        top = self.folder / "root"
        top.mkdir()
        self.tool("debugfs", "-R", f"rdump / {top}", part)
        loader = next(path for path in [*top.glob("lib64/ld-*"), *top.glob("lib/ld-*")])
        command = [loader, "--library-path", f"{top}/lib:{top}/usr/lib"]
        subprocess.run(
            [*command, top / "usr/bin/tidelog", "--count", "3", "--every", "0", self.folder / "log"],
            check=True,
            capture_output=True,
        )
        answer = subprocess.run(
            [*command, top / "usr/bin/tide", "count", self.folder / "log"], check=True, capture_output=True, text=True
        )
        self.assertEqual(answer.stdout, "3 readings\n")
        script = "echo one two > f && cat f | wc; echo 'a  b' >> f; cat < f; false; echo no && nothing && echo never"
        shell = subprocess.run([*command, top / "bin/sh", "-c", script], cwd=self.folder, capture_output=True, text=True)
        self.assertEqual(shell.stdout, "1\none two\na  b\nno\n")
        self.assertIn("sh: nothing", shell.stderr)

    def test_a_second_build_does_nothing_and_says_so(self) -> None:
        said = self.yarrik("build", "tide-office", at=self.root)
        self.assertRegex(said, r"^tide-office: nothing to do, all \d+ steps are kept")
        self.assertIn("nothing would run", self.yarrik("plan", "tide-office", at=self.root))

    def test_a_shell_completes_names_of_the_workspace(self) -> None:
        (self.root / f"{RECIPES}/tidelog/recipe.toml").write_text("version =")  # none of them is read

        def completed(line: str) -> list[str]:
            environment = {**self.environment, "_YARRIK_COMPLETE": "complete_bash", "COMP_WORDS": line,
                           "COMP_CWORD": str(line.count(" "))}  # fmt: skip
            program = Path(sys.executable).with_name("yarrik")
            done = subprocess.run([program], cwd=self.root, env=environment, capture_output=True, text=True, check=False)
            return done.stdout.split()

        self.assertIn("tide-office", completed("yarrik build tide-"))
        self.assertEqual(completed("yarrik enter tidel"), ["tidelog"])
        self.assertEqual(completed("yarrik enter nothing-of-that"), [])
        self.assertIn("enter", completed("yarrik ent"))

    def test_a_comment_in_the_library_runs_its_own_build_and_nothing_after_it(self) -> None:
        self.edit(f"{RECIPES}/libtide/src/level.c", "their sum.", "their sum, no more and no less.")
        plan = self.yarrik_json("plan", "tide-office", at=self.root)
        self.assertEqual(plan["steps"][0]["reason"], "source changed: src/level.c")
        report = self.build()
        self.assertEqual(self.ran(report), ["prepare libtide", "build libtide"])
        self.assertTrue(report["steps"][[step["step"] for step in report["steps"]].index("build libtide")]["same"])

    def test_a_changed_function_rebuilds_the_users_and_the_plan_had_said_so(self) -> None:
        before = (self.root / "out/tide-office/tide-office.img").read_bytes()
        self.edit(f"{RECIPES}/libtide/src/level.c", "MEAN_LEVEL 3.10", "MEAN_LEVEL 3.15")
        text = self.yarrik("plan", "tide-office", at=self.root)
        self.assertRegex(text, r"may run\s+build, stage, split tidelog\s+libtide: source changed: src/level.c")
        told = {step["step"]: step for step in self.yarrik_json("plan", "tide-office", at=self.root)["steps"]}
        report = self.build()
        ran = self.ran(report)
        self.assertLessEqual({"build tide", "build tidelog", "write tide-office"}, set(ran))
        self.assertLessEqual(set(ran), set(told))
        self.assertNotIn("build harbour-init", ran)
        self.assertNotIn("build tablegen (host)", ran)
        self.assertNotEqual((self.root / "out/tide-office/tide-office.img").read_bytes(), before)

    def test_going_back_is_kept_too(self) -> None:
        first = (self.root / "out/tide-office/SHA256SUMS").read_text()
        self.edit(f"{RECIPES}/tide/src/tide.c", "no readings yet", "nothing yet")
        self.assertIn("build tide", self.ran(self.build()))
        self.edit(f"{RECIPES}/tide/src/tide.c", "nothing yet", "no readings yet")
        report = self.build()
        self.assertEqual(self.ran(report), [])
        self.assertTrue(report["changed"])
        self.assertEqual((self.root / "out/tide-office/SHA256SUMS").read_text(), first)

    def test_a_flag_of_the_profile_is_named_as_the_reason(self) -> None:
        self.edit("shelves/harbour/profiles/lean.toml", '"-Os"', '"-O1"')
        steps = {step["step"]: step for step in self.yarrik_json("plan", "tide-office", at=self.root)["steps"]}
        self.assertRegex(steps["build tide"]["reason"], r"^environment.CFLAGS changed")
        self.assertNotIn("build tablegen (host)", steps)

    def test_what_somebody_removed_or_changed_in_out_is_put_back(self) -> None:
        image = self.root / "out/tide-office/tide-office.img"
        good = image.read_bytes()
        image.write_bytes(b"broken")
        (self.root / "out/tide-office/files.json").unlink()
        report = self.build()
        self.assertEqual((self.ran(report), report["changed"]), ([], True))
        self.assertEqual(image.read_bytes(), good)
        self.assertFalse(self.build()["changed"])

    def test_a_lost_cache_costs_time_and_nothing_else(self) -> None:
        sums = (self.root / "out/tide-office/SHA256SUMS").read_text()
        subprocess.run(["rm", "-rf", str(self.folder / "cache")], check=True)
        plan = self.yarrik_json("plan", "tide-office", at=self.root)
        self.assertIn("the cache does not have its result", {step["reason"] for step in plan["steps"]})
        self.assertIn("build tide", self.ran(self.build()))
        self.assertEqual((self.root / "out/tide-office/SHA256SUMS").read_text(), sums)

    def test_the_demo_can_be_laid_out_again_without_losing_an_edit(self) -> None:
        self.edit(f"{RECIPES}/tide/src/tide.c", "no readings yet", "mine")
        self.yarrik("demo", self.root, "--product", "tide-office")
        self.assertIn("mine", (self.root / RECIPES / "tide/src/tide.c").read_text())
        other = self.folder / "other"
        other.mkdir()
        (other / "thesis.txt").write_text("x")
        self.assertIn("DEMO-FOLDER", self.yarrik("demo", other, code=2))

    def test_definitions_logs_and_checks_can_be_read(self) -> None:
        self.assertRegex(
            self.yarrik("show", "tide-office", at=self.root), r"root\.login\s+open\s+shelves/harbour/images/tide-gauge.toml:\d+"
        )
        self.assertIn("-shared", self.yarrik("log", "build", "libtide", "--product", "tide-office", at=self.root))
        self.assertIn("LOG-MISSING", self.yarrik("log", "build", "libtied", "--product", "tide-office", code=2, at=self.root))
        check = self.yarrik_json("check", "tide-office", at=self.root)
        self.assertLess(check["order"].index("libtide"), check["order"].index("tidelog"))
        self.assertLess(check["order"].index("tablegen (host)"), check["order"].index("libtide"))
        self.assertIn("names no emulator", self.yarrik("boot", "tide-office", code=2, at=self.root))


#: Builds as root, then in a child that has become somebody else. The first build loads every module, so the second one
#: needs nothing that only root may read (a Python in root's own folder, a clone there).
TWO_USERS = """
import os, pwd, sys
from yarrik.cli import main
from yarrik.demo import lay_out_demo
from pathlib import Path

def build(home, zone, umask):
    os.environ |= {"YARRIK_CACHE": home + "/cache", "TZ": zone, "HOME": home}
    os.umask(umask)
    for product in ("tide-gauge", "tide-office"):
        sys.argv = ["yarrik", "build", product, "--workspace", home + "/demo"]
        try:
            main()
        except SystemExit as end:
            if end.code:
                os._exit(end.code)

first, second = sys.argv[1:]
for home in (first, second):
    lay_out_demo(Path(home, "demo"))
build(first, "UTC", 0o022)
nobody = pwd.getpwnam("nobody")
for folder, folders, files in os.walk(second):
    for name in [folder, *(os.path.join(folder, file) for file in files)]:
        os.chown(name, nobody.pw_uid, nobody.pw_gid)
child = os.fork()
if child == 0:
    os.setgroups([])
    os.setgid(nobody.pw_gid)
    os.setuid(nobody.pw_uid)
    build(second, "Pacific/Auckland", 0o077)
    os._exit(0)
sys.exit(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))
"""


class TheSameBytesEverywhere(ProgramTest):
    forks = False

    def sums(self, home: Path) -> list[str]:
        return [(home / "demo/out" / product / "SHA256SUMS").read_text() for product in ("tide-gauge", "tide-office")]

    def test_in_two_folders_by_root_and_another_user_with_other_umask_and_zone(self) -> None:
        self.folder.chmod(0o755)
        homes = [self.folder / "one", self.folder / "another home, with blanks"]
        for home in homes:
            home.mkdir()
        if os.getuid() == 0:
            done = subprocess.run(
                [sys.executable, "-c", TWO_USERS, *map(str, homes)], capture_output=True, text=True, timeout=600, cwd="/"
            )
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
            self.assertEqual((homes[1] / "demo/out/tide-gauge/tide-gauge.img").owner(), "nobody")
        else:  # who is not root can still seem to be, in a namespace of their own
            for home, umask, zone, words in (
                (homes[0], 0o022, "UTC", []),
                (homes[1], 0o077, "Pacific/Auckland", ["unshare", "--map-root-user"]),
            ):
                environment = {**self.environment, "YARRIK_CACHE": str(home / "cache"), "TZ": zone}
                command = [*words, sys.executable, "-m", "yarrik", "demo", str(home / "demo"), "--no-boot"]
                done = subprocess.run(command, env=environment, umask=umask, capture_output=True, text=True, timeout=600)
                self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("tide-gauge.img", self.sums(homes[0])[0])
        self.assertEqual(self.sums(homes[0]), self.sums(homes[1]))

    def test_without_the_sandbox_too(self) -> None:
        for number, words in enumerate(((), ("--no-sandbox",))):
            home = self.folder / f"h{number}"
            self.environment["YARRIK_CACHE"] = str(home / "cache")
            said = self.yarrik("demo", home / "demo", "--no-boot", *words)
            self.assertEqual("without a sandbox" in said, number == 1)
        self.assertEqual(self.sums(self.folder / "h0"), self.sums(self.folder / "h1"))


class KilledBuildsGoOn(ProgramTest):
    def test_after_a_kill_of_the_whole_group_the_next_build_completes(self) -> None:
        root = self.folder / "demo"
        words = [sys.executable, "-m", "yarrik", "demo", str(root), "--product", "tide-office", "--no-boot"]
        killed = 0
        for log in ("build-harbour-init", "build-libtide", "build-tidelog"):
            process = subprocess.Popen(
                words, env=self.environment, start_new_session=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT
            )
            while process.poll() is None and not (root / f".yarrik/logs/tide-office/{log}.log").exists():
                time.sleep(0.002)
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
                killed += process.wait() == -signal.SIGKILL
            process.communicate()
        self.assertGreater(killed, 1, "the builds were done before they could be killed")
        self.yarrik("build", "tide-office", at=root)
        self.assertEqual(self.yarrik_json("build", "tide-office", at=root)["changed"], False)
        self.assertEqual(list((root / ".yarrik/work").iterdir()), [])
        clean = self.folder / "clean"
        self.environment["YARRIK_CACHE"] = str(self.folder / "other-cache")
        self.yarrik("demo", clean, "--product", "tide-office")
        self.assertEqual((clean / "out/tide-office/SHA256SUMS").read_text(), (root / "out/tide-office/SHA256SUMS").read_text())

    def test_two_builds_at_a_time_do_not_hurt_each_other(self) -> None:
        root = self.folder / "demo"
        words = [sys.executable, "-m", "yarrik", "demo", str(root), "--product", "tide-office", "--no-boot", "--json"]
        both = [
            subprocess.Popen(words, env=self.environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
            for _ in range(2)
        ]
        for process in both:
            said, _ = process.communicate(timeout=300)
            self.assertEqual(process.returncode, 0, said)
        self.yarrik("build", "tide-office", at=root)
        subprocess.run(["sha256sum", "--check", "--quiet", "SHA256SUMS"], cwd=root / "out/tide-office", check=True)


class BuildsThatShareACacheShareTheWork(WorkspaceTest):
    def begun(self, workspace: str, *words: str) -> subprocess.Popen[str]:
        process = subprocess.Popen(
            [sys.executable, "-m", "yarrik", "build", "--no-sandbox", "--json", *words], cwd=self.folder / workspace,
            env=self.environment, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        self.addCleanup(process.communicate)
        self.addCleanup(process.kill)
        return process

    def until(self, process: subprocess.Popen[str], **wanted: str) -> dict:
        assert process.stdout is not None
        for line in process.stdout:
            event = json.loads(line)
            if all(event.get(key) == value for key, value in wanted.items()):
                return event
        self.fail(f"it ended before {wanted}")

    def test_a_step_that_another_process_runs_holds_no_job_and_is_taken_over(self) -> None:
        go = self.folder / "go"
        self.recipe("slow", f"while [ ! -e {go} ]; do sleep 0.05; done; mkdir -p $DESTDIR/etc; date +%N > $DESTDIR/etc/slow")
        self.recipe("other", "mkdir -p $DESTDIR/etc; echo y > $DESTDIR/etc/other")
        self.write("w/s/images/i.toml", 'packages = ["init", "slow"]\n')
        shutil.copytree(self.root, self.folder / "v", symlinks=True)
        self.write("v/s/images/i.toml", 'packages = ["init", "slow", "other"]\n')
        first = self.begun("w")
        self.until(first, event="step-started", step="build slow")
        second = self.begun("v", "--jobs", "1")
        waits = self.until(second, event="step-waits")
        self.assertEqual(
            (waits["step"], waits["process"], waits["workspace"], waits["product"]),
            ("build slow", first.pid, str(self.root), "p"),
        )
        self.until(
            second, event="step-ended", step="split other", how="ran"
        )  # with one job, while the other step is waited for
        go.touch()
        self.until(second, event="step-ended", step="build slow", how="kept")
        self.assertTrue(self.until(second, event="end")["ok"])
        self.assertTrue(self.until(first, event="end")["ok"])
        self.assertEqual((first.wait(), second.wait()), (0, 0))
        self.assertEqual(list((self.folder / "cache/builds").iterdir()), [])

    def test_when_the_other_one_dies_the_step_runs_here(self) -> None:
        go = self.folder / "go"
        self.recipe("slow", f"while [ ! -e {go} ]; do sleep 0.05; done; mkdir -p $DESTDIR/etc; echo x > $DESTDIR/etc/slow")
        self.write("w/s/images/i.toml", 'packages = ["init", "slow"]\n')
        shutil.copytree(self.root, self.folder / "v", symlinks=True)
        first = self.begun("w")
        self.until(first, event="step-started", step="build slow")
        second = self.begun("v", "--jobs", "1")
        self.until(second, event="step-waits", step="build slow")
        first.kill()
        self.until(second, event="step-started", step="build slow")
        go.touch()
        self.assertTrue(self.until(second, event="end")["ok"])


class AFaultOfOursIsReported(WorkspaceTest):
    def broken(self, patch: str, *words: str) -> subprocess.CompletedProcess[str]:
        script = f"import sys\nfrom unittest import mock\nimport yarrik.cli\n{patch}\nsys.argv[1:] = {list(words)!r}\nyarrik.cli.main()\n"
        environment = {**self.environment, "XDG_STATE_HOME": str(self.folder / "state")}
        return subprocess.run(
            [sys.executable, "-c", script], cwd=self.root, env=environment, capture_output=True, text=True, check=False
        )

    def test_with_a_short_notice_and_the_trace_in_a_file(self) -> None:
        patch = "import yarrik.model.composing as c\nmock.patch.object(c, '_product_name', side_effect=KeyError('odd')).start()"
        for words in (("check",), ("build",)):
            done = self.broken(patch, *words)
            self.assertEqual(done.returncode, 70, done.stderr)
            self.assertIn("error FAULT: Yarrik has a fault: KeyError: 'odd'", done.stderr)
            self.assertNotIn("Traceback", done.stdout + done.stderr)
        files = list((self.folder / "state/yarrik/faults").iterdir())
        self.assertEqual(len(files), 2)
        self.assertIn(str(files[0]), self.broken(patch, "check").stderr + self.broken(patch, "build").stderr)
        self.assertIn("Traceback (most recent call last)", files[0].read_text())
        self.assertEqual(json.loads(self.broken(patch, "check", "--json").stdout)["troubles"][0]["code"], "FAULT")

    def test_and_never_as_damage_or_a_full_disk(self) -> None:
        for patch in (
            "import yarrik.run.product as p\nmock.patch.object(p, 'assemble_root', side_effect=ValueError('odd')).start()",
            "import yarrik.disk.writing as w\nmock.patch.object(w, 'lay_out_disk', side_effect=ValueError('odd')).start()",
            "import yarrik.boot.bench as b\nmock.patch.object(b, '_kernel', side_effect=ValueError('odd')).start()",
        ):
            done = self.broken(patch, "build")
            self.assertEqual(done.returncode, 70, done.stdout + done.stderr)
            self.assertIn("error FAULT: Yarrik has a fault: ValueError: odd", done.stderr)
            self.assertNotIn("free space", done.stderr)


class WhatEngineersMet(WorkspaceTest):
    def test_a_reader_that_has_seen_enough(self) -> None:
        (self.folder / "tree").mkdir()
        for number in range(3000):
            (self.folder / f"tree/{number:05}").touch()
        self.yarrik("pack", "tree", "tree.tar", "--as", "tar")
        line = f"{sys.executable} -m yarrik inspect tree.tar / | head -2"
        done = subprocess.run(
            ["sh", "-c", line], cwd=self.folder, env=self.environment, capture_output=True, text=True, check=True
        )
        self.assertEqual((len(done.stdout.splitlines()), done.stderr), (2, ""))

    def test_what_an_earlier_build_put_there_goes_and_what_others_put_there_stays(self) -> None:
        board = self.root / "s/boards/b.toml"
        text = board.read_text()
        board.write_text(text.replace('name = "card"', 'name = "card"\nalso = ["gzip", "map"]'))
        self.yarrik("build", at=self.root)
        out = self.root / "out/p"
        self.write("w/out/p/notes.txt", "mine")
        (out / "p.img.map.json").write_text("changed by hand")
        self.assertTrue((out / "p.img.gz").exists())
        board.write_text(text)
        self.yarrik("build", at=self.root)
        self.assertFalse((out / "p.img.gz").exists())
        self.assertEqual((out / "notes.txt").read_text(), "mine")
        self.assertEqual((out / "p.img.map.json").read_text(), "changed by hand")

    def test_a_family_of_licences_is_no_licence(self) -> None:
        file = self.root / "s/recipes/init/recipe.toml"
        file.write_text(file.read_text().replace('"MIT"', '"BSD"'))
        said = self.yarrik("check", code=2, at=self.root)
        self.assertIn("`BSD` is a family of licences", said)
        self.assertIn("BSD-3-Clause", said)

    def test_a_workspace_without_products(self) -> None:
        (self.root / "products/p.toml").unlink()
        self.assertIn("products/NAME.toml with `board`, `profile` and `image`", self.yarrik("build", code=2, at=self.root))

    def test_an_edit_of_another_products_recipe(self) -> None:
        self.recipe("other", "true")
        said = self.yarrik("edit", "other", code=2, at=self.root)
        self.assertIn("a shelf has it, for other products", said)
        self.assertIn("yarrik edit other --product NAME", said)

    def test_overlays_of_the_command_line_lie_beside_the_board(self) -> None:
        said = self.yarrik("check", "--set", 'board.kernel.device-tree="none.dts"', code=2, at=self.root)
        self.assertIn("s/boards", said)

    def test_an_input_that_was_damaged_without_a_trace_is_made_again_when_a_step_fails_of_it(self) -> None:
        self.recipe("lib", "mkdir -p $DESTDIR/usr/include; echo 'a good header' > $DESTDIR/usr/include/lib.h")
        self.recipe("app", "grep -q good /step/sysroot/usr/include/lib.h; echo x > $DESTDIR/x", more='needs = ["lib"]')
        self.write("w/s/images/i.toml", 'packages = ["init", "app"]\n')
        self.yarrik("build", "--until", "stage lib", at=self.root)
        victim = next(
            path
            for path in (self.folder / "cache/objects").rglob("*")
            if path.is_file() and path.read_bytes() == b"a good header\n"
        )
        times = victim.stat()
        victim.chmod(0o644)
        victim.write_bytes(b"a bad header!\n")
        os.utime(victim, ns=(times.st_atime_ns, times.st_mtime_ns))
        said = self.yarrik("build", at=self.root)
        self.assertIn("its input is damaged in the cache, and made again", said)
        self.assertIn("the cache was damaged", said)

    def test_a_partition_as_large_as_its_content_and_a_size(self) -> None:
        board = self.root / "s/boards/b.toml"
        text = board.read_text()
        sizes = {}
        for size in ("fit", "fit + 64 MiB", "fit+65536KiB"):
            board.write_text(text + f'size = "{size}"\n')
            self.yarrik("build", at=self.root)
            sizes[size] = self.yarrik_json("inspect", "out/p/p.img", at=self.root)["partitions"][0]["bytes"]
        self.assertAlmostEqual(sizes["fit + 64 MiB"] - sizes["fit"], 64 << 20, delta=2 << 20)
        self.assertEqual(sizes["fit + 64 MiB"], sizes["fit+65536KiB"])
        board.write_text(text + 'size = "fit + 64 MB"\n')
        self.assertIn("`fit + 64 MiB`", self.yarrik("check", code=2, at=self.root))


class MistakesInASecondWay(WorkspaceTest):
    """Mistakes that were caught one way and slipped through another; numbered as in the list of mistakes."""

    def image(self, *names: str, more: str = "") -> None:
        self.write("w/s/images/i.toml", f"packages = {json.dumps(['init', *names])}\n{more}")

    def test_20_a_slip_in_what_is_recommended(self) -> None:
        self.recipe("app", "echo x > $DESTDIR/x", package='[package.app]\nrecommends = ["ini"]\n')
        self.image("app")
        said = self.yarrik("check", at=self.root)
        self.assertIn("RECOMMENDED-MISSING: `app` recommends `ini`, which no shelf has", said)
        self.assertIn("did you mean `init`?", said)

    def test_26_what_is_installed_into_the_build_s_own_folder(self) -> None:
        self.image("app")
        for more, place in ((), "/step/stage/usr/lib/x"), (("--no-sandbox",), "/stage/usr/lib/x"):
            self.recipe("app", "mkdir -p $DESTDIR$DESTDIR/usr/lib; echo x > $DESTDIR$DESTDIR/usr/lib/x")
            said = self.yarrik("build", *more, code=1, at=self.root)
            self.assertRegex(said, f"error PACKAGE-IN-BUILD-FOLDER: the build installs into a folder of its own: .*{place}\n")
        # A folder that another package names, with the sysroot before it, is a place on the board.
        own = "$DESTDIR/step/sysroot/usr"
        self.recipe(
            "app", f"mkdir -p {own}/lib/rules.d $DESTDIR/usr/bin; echo r > {own}/lib/rules.d/r; echo b > $DESTDIR/usr/bin/b"
        )
        self.yarrik("build", at=self.root)
        self.assertEqual((self.content("/usr/lib/rules.d/r"), self.content("/usr/bin/b")), ("r\n", "b\n"))
        self.assertNotIn("step", self.yarrik("inspect", "out/p/p.img", "/", at=self.root))
        for more in (
            "mkdir -p $DESTDIR/usr/lib/rules.d; echo x > $DESTDIR/usr/lib/rules.d/r",
            "mkdir -p $DESTDIR/usr; ln -s /lib $DESTDIR/usr/lib",
        ):
            self.recipe("app", f"mkdir -p {own}/lib/rules.d; echo r > {own}/lib/rules.d/r; {more}")
            self.assertIn("error PACKAGE-IN-BUILD-FOLDER", self.yarrik("build", code=1, at=self.root))
        # A board may have such a folder at its top.
        self.recipe("app", "mkdir -p $DESTDIR/step; echo x > $DESTDIR/step/x")
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/step/x"), "x\n")

    def test_25_foreign_objects_in_archives_and_programs_of_another_form(self) -> None:
        self.image("app")
        cross = 'programs = ["aarch64-linux-gnu-gcc"]'
        for command, words in (
            ("aarch64-linux-gnu-gcc -c -o x.o x.c; aarch64-linux-gnu-ar rc $DESTDIR/usr/lib/libx.a x.o",
             "/usr/lib/libx.a holds the object x.o, which is built for arm64"),
            ("cp x.efi $DESTDIR/usr/lib/x.efi", "/usr/lib/x.efi is a PE program for arm64"),
        ):  # fmt: skip
            self.recipe("app", f"mkdir -p $DESTDIR/usr/lib; {command}", {"x.c": "int x;\n"}, cross)
            head = bytearray(200)
            head[:2], head[0x3C], head[0x80:0x86] = b"MZ", 0x80, b"PE\0\0\x64\xaa"
            (self.root / "s/recipes/app/src/x.efi").write_bytes(head)
            said = self.yarrik("build", code=1, at=self.root)
            self.assertIn("error PACKAGE-ARCH", said)
            self.assertIn(words, said)
        self.recipe(
            "app", "mkdir -p $DESTDIR/usr/lib; $CC -c -o x.o x.c; $AR rc $DESTDIR/usr/lib/libx.a x.o", {"x.c": "int x;\n"}
        )
        self.yarrik("build", at=self.root)

    def test_30_clashes_say_what_differs_and_between_whom(self) -> None:
        self.image("one", "two")
        for first, second, words in (
            ("mkdir $DESTDIR/x", "echo x > $DESTDIR/x", "`one` and the package `two` both bring /x, as a folder and as a file"),
            ("echo x > $DESTDIR/x", "echo x > $DESTDIR/x; chmod 600 $DESTDIR/x", "with the same content, and other modes or owners (0644 of 0:0 and 0600 of 0:0)"),
            ("echo x > $DESTDIR/x", "echo y > $DESTDIR/x", "with different content"),
            ("echo x > $DESTDIR/tmp", "true", "the folders of every image and the package `one` both bring /tmp, as a folder and as a file"),
        ):  # fmt: skip
            self.recipe("one", first)
            self.recipe("two", second)
            said = self.yarrik("build", code=1, at=self.root)
            self.assertIn("PATH-CLASH", said)
            self.assertIn(words, said)

    def test_30_a_merged_usr_is_no_clash_in_sysroots_and_images(self) -> None:
        self.recipe("base", "mkdir -p $DESTDIR/usr/lib; ln -s usr/lib $DESTDIR/lib")
        header = "mkdir -p $DESTDIR/usr/include; echo 'int thing(void);' > $DESTDIR/usr/include/thing.h"
        make = "$CC -shared -fPIC -Wl,-soname,libthing.so -o $DESTDIR/lib/libthing.so thing.c"
        self.recipe("thing", f"mkdir -p $DESTDIR/lib; {make}; {header}", {"thing.c": "int thing(void) { return 3; }\n"})
        use = "mkdir -p $DESTDIR/usr/bin; $CC $CFLAGS $LDFLAGS -o $DESTDIR/usr/bin/app app.c -lthing"
        main = "#include <thing.h>\nint main(void) { return thing(); }\n"
        self.recipe("app", use, {"app.c": main}, 'needs = ["base", "thing"]')
        self.image("base", "app")
        self.assertIn("/lib is a link to usr/lib", self.yarrik("build", at=self.root))
        listed = self.yarrik("inspect", "out/p/p.img", "/usr/lib", at=self.root)
        self.assertIn("libthing.so", listed)
        self.assertIn("libc.so.6", listed)
        self.assertIn("✓ init", self.yarrik("boot", "--bench", "out/p/p.img", at=self.root))
        self.image("app")
        self.recipe("app", use, {"app.c": main}, 'needs = ["thing"]')
        self.write("w/s/profiles/p.toml", 'init = "init"\nmerged-usr = true\n')
        self.assertNotIn("is a link to", self.yarrik("build", at=self.root))
        self.assertIn("libthing.so", self.yarrik("inspect", "out/p/p.img", "/usr/lib", at=self.root))
        self.recipe("base", "mkdir -p $DESTDIR/usr/lib $DESTDIR/lib; echo x > $DESTDIR/lib/x; echo y > $DESTDIR/usr/lib/x")
        self.image("base")
        self.assertIn("PATH-CLASH", self.yarrik("build", code=1, at=self.root))

    def test_31_a_library_where_the_loader_does_not_look(self) -> None:
        library = "mkdir -p $DESTDIR/opt/thing $DESTDIR/usr/bin; $CC -shared -fPIC -o $DESTDIR/opt/thing/libthing.so thing.c"
        program = "$CC $CFLAGS $LDFLAGS -o $DESTDIR/usr/bin/app app.c -L$DESTDIR/opt/thing -lthing"
        files = {"thing.c": "int t(void) { return 3; }\n", "app.c": "int t(void);\nint main(void) { return t(); }\n"}
        self.recipe("app", f"{library}; {program}", files)
        self.image("app")
        said = self.yarrik("build", code=1, at=self.root)
        self.assertIn("error LIBRARY-UNSEARCHED: /usr/bin/app of the package `app` loads libthing.so", said)
        self.assertIn("the package `app` brings it as /opt/thing/libthing.so", said)
        self.assertIn("-Wl,-rpath,/opt/thing", said)
        for runpath in ("/opt/thing", "\\$ORIGIN/../../opt/thing"):
            self.recipe("app", f'{library}; {program} "-Wl,-rpath,{runpath}"', files)
            self.yarrik("build", at=self.root)
            self.assertIn("libraries are there", self.yarrik("boot", "--bench", "out/p/p.img", at=self.root))

    def test_30_a_file_of_the_image_in_place_of_a_packages_is_told(self) -> None:
        self.recipe("app", "echo x > $DESTDIR/x")
        mine = '[[file]]\npath = "/x"\ncontent = "mine"\n'
        self.image("app", more=mine)
        self.assertIn("FILE-REPLACED: /x is the image's own, and the package `app`", self.yarrik("build", code=1, at=self.root))
        self.image("app", more=mine + 'replaces = "app"\n')
        self.assertIn("/x is the image's own, in place of the one of the package `app`", self.yarrik("build", at=self.root))

    def test_32_a_login_service_is_known_by_its_role(self) -> None:
        self.recipe("gate", "echo x > $DESTDIR/x", package='[package.gate]\nprovides = ["login-service"]\n')
        self.recipe("suite", "echo y > $DESTDIR/y", package='[package.suite]\nneeds = ["gate"]\n')
        for names in (["gate"], ["suite"]):
            self.image(*names, more='[root]\nlogin = "open"\n')
            said = self.yarrik("check", code=2, at=self.root)
            self.assertIn("error LOGIN-OPEN: `root` needs no password, and the package `gate` lets people log in", said)
            self.assertIn("i.toml:3 [root.login]", said)
        for more in ("", '[root]\nlogin = "password"\npassword-hash = "$6$pierpier$abcdefgh"\n'):
            self.image("gate", more=more)
            self.yarrik("check", at=self.root)
        self.image(more='[root]\nlogin = "open"\n')
        self.yarrik("check", at=self.root)

    def test_36_what_the_last_build_made_does_not_fit_a_smaller_partition(self) -> None:
        self.yarrik("build", at=self.root)
        self.assertEqual(self.yarrik_json("check", at=self.root)["warnings"], [])
        board = self.root / "s/boards/b.toml"
        text = board.read_text()
        for size, code in (
            ('size = "1 MiB"', "PARTITION-FULL"),
            ('size = "rest of 2 MiB"', "PARTITION-FULL"),
            ('size = "64 MiB"', None),
        ):
            board.write_text(text + size + "\n")
            found = self.yarrik_json("check", at=self.root)["warnings"]
            self.assertEqual([one["code"] for one in found], [code] if code else [])
            if code:
                self.assertIn("what the last build made does not fit: partition `root` of the disk `card`", found[0]["what"])
                self.yarrik("build", at=self.root, code=1)

    def test_a_file_s_name_that_differs_by_case_or_ending_gets_its_nearest(self) -> None:
        self.recipe("app", "echo x > $DESTDIR/x")
        self.image("app", more='[[file]]\npath = "/motd"\nfrom = "files/motd.txt"\n')
        (self.root / "s/images/files").mkdir()
        for there in ("Motd.txt", "motd", "motd.text"):
            (self.root / "s/images/files" / there).write_text("x")
            said = self.yarrik("check", code=2, at=self.root)
            self.assertIn(f"did you mean `s/images/files/{there}`?", said)
            (self.root / "s/images/files" / there).unlink()
        (self.root / "s/images/Files").mkdir()
        (self.root / "s/images/files").rmdir()
        (self.root / "s/images/Files/motd.txt").write_text("x")
        self.assertIn("did you mean `s/images/Files/motd.txt`?", self.yarrik("check", code=2, at=self.root))
        self.image("app")
        (self.root / "s/recipes/app/src").rename(self.root / "s/recipes/app/Src")
        self.assertIn("did you mean `s/recipes/app/Src`?", self.yarrik("check", code=2, at=self.root))

    def test_a_command_line_that_nothing_can_carry(self) -> None:
        for where, words in (
            ("kernel", "is to be built into the kernel, and `kernel` is not configured here"),
            ("device-tree", "is to be in the device tree, and the board `b` has none"),
        ):
            said = self.yarrik("check", "--set", f"board.boot.command-line-in={where}", code=2, at=self.root)
            self.assertIn(f"error BOOT-LINE-NOWHERE: the command line {words}", said)

    def test_what_can_fail_later_is_told_by_check(self) -> None:
        for more, code in (
            ('[root]\nlogin = "password"\n', "ROOT-PASSWORD"),
            ('[[file]]\npath = "/x"\ncontent = ""\nowner = "nobdy"\n', "ACCOUNT-MISSING"),
            ('[[user]]\nname = "a"\nid = 5\n[[user]]\nname = "b"\nid = 5\n', "ACCOUNT-TWICE"),
        ):
            self.image(more=more)
            self.assertIn(code, self.yarrik("check", code=2, at=self.root))

    def test_fewer_inodes_than_files_and_a_pipe_in_a_package(self) -> None:
        self.recipe("app", "mkdir $DESTDIR/many; i=0; while [ $i -lt 300 ]; do : > $DESTDIR/many/$i; i=$((i+1)); done")
        self.image("app")
        board = self.root / "s/boards/b.toml"
        text = board.read_text()
        board.write_text(text + "inodes = 100\n")
        said = self.yarrik("build", code=1, at=self.root)
        self.assertRegex(said, r"needs 3\d\d inodes, and `inodes` gives 100")
        board.write_text(text)
        self.recipe("app", "mkfifo $DESTDIR/pipe")
        self.assertIn("[[node]] with `path` and `kind`", self.yarrik("build", code=1, at=self.root))

    def test_an_image_that_is_cut_off_by_a_sector(self) -> None:
        self.yarrik("build", at=self.root)
        image = self.root / "out/p/p.img"
        with image.open("r+b") as disk:
            disk.truncate(image.stat().st_size - 512)
        said = self.yarrik("boot", "--bench", image, at=self.root)
        self.assertIn("BOOT-TABLE-BACKUP: the partition table is sound, and its backup is at sector", said)


class FailuresSayWhatWhereAndWhatNext(WorkspaceTest):
    def build(self, code: int = 0, *words: str) -> str:
        return self.yarrik("build", *words, code=code, at=self.root)

    def test_a_small_workspace_builds(self) -> None:
        self.assertRegex(self.build(), r"\d+ steps? ran")

    def test_a_failing_step_shows_its_last_lines_and_its_log(self) -> None:
        self.recipe("bad", "echo before; cc-that-is-not-there x.c")
        self.write("w/s/images/i.toml", 'packages = ["init", "bad"]\n')
        said = self.build(1)
        self.assertIn("error STEP-NO-PROGRAM: step `build bad` failed: it needs the program `cc-that-is-not-there`", said)
        self.assertIn("cc-that-is-not-there: not found", said)
        path = re.search(r"where\s+(\S+)", said).group(1)
        self.assertIn("before", (self.root / path).read_text())
        self.assertIn("before", self.yarrik("log", "build", "bad", at=self.root))
        self.assertFalse((self.root / "out").exists())

    def test_keep_going_builds_all_that_does_not_need_the_failed_step(self) -> None:
        self.recipe("a-bad", "exit 3")
        self.recipe("user", "true", more='needs = ["a-bad"]')
        self.recipe("z-good", "mkdir -p $DESTDIR/x")
        self.write("w/s/images/i.toml", 'packages = ["init", "user", "z-good"]\n')
        report = self.yarrik_json("build", "--keep-going", "--jobs", "1", code=1, at=self.root)
        how = {step["step"]: step["how"] for step in report["steps"]}
        self.assertEqual((how["build a-bad"], how["build user"], how["build z-good"]), ("failed", "not reached", "ran"))
        self.assertIn("exit code 3", report["troubles"][0]["what"])

    def test_a_program_for_another_architecture_is_stopped(self) -> None:
        self.recipe(
            "other",
            "mkdir -p $DESTDIR/bin && aarch64-linux-gnu-gcc -o $DESTDIR/bin/x x.c",
            {"x.c": "int main(void){return 0;}\n"},
            'programs = ["aarch64-linux-gnu-gcc"]',
        )
        self.write("w/s/images/i.toml", 'packages = ["init", "other"]\n')
        said = self.build(1)
        self.assertIn("error PACKAGE-ARCH: /bin/x is built for arm64", said)

    def test_a_path_of_the_build_in_a_file_is_a_note(self) -> None:
        self.recipe("leaky", "mkdir -p $DESTDIR/etc && pwd > $DESTDIR/etc/where")
        self.write("w/s/images/i.toml", 'packages = ["init", "leaky"]\n')
        self.assertIn("note  leaky: /etc/where holds a path of the build", self.build())

    def test_a_library_whose_recipe_has_a_package_with_needs_of_its_own(self) -> None:
        """Only the library is linked with; its daemon, and what that needs, are not in the image."""
        self.recipe(
            "helpers", "mkdir -p $DESTDIR/bin && echo 1 > $DESTDIR/bin/h", package='[package.helper]\nfiles = ["/bin/h"]\n'
        )
        self.recipe("reef", "mkdir -p $DESTDIR/bin $DESTDIR/usr/include && echo 1 > $DESTDIR/bin/r && echo > $DESTDIR/usr/include/reef.h",
                    package='[package.reef-daemon]\nfiles = ["/bin/r"]\nneeds = ["helper"]\n')  # fmt: skip
        self.recipe("user", "mkdir -p $DESTDIR/etc && $CC $CPPFLAGS -E u.c > $DESTDIR/etc/u", {"u.c": "#include <reef.h>\n"},
                    more='needs = ["reef"]')  # fmt: skip
        self.write("w/s/images/i.toml", 'packages = ["init", "user"]\n')
        self.assertNotIn("FAULT", self.build())
        self.write("w/s/images/i.toml", 'packages = ["init", "user", "reef-daemon"]\n')
        self.build()
        self.assertIn("h", self.yarrik("inspect", "out/p/p.img", "/bin", at=self.root))

    def test_what_is_left_of_a_search_path_is_cleared(self) -> None:
        """A search path that was replaced by a shorter one in its place, as build systems do when they install."""
        shorten = (
            "import sys; p = sys.argv[1]; d = open(p, 'rb').read(); at = d.index(b'/usr/lib/x:/step/sysroot/usr/lib'); "
            "open(p, 'wb').write(d[:at + 10] + bytes(1) + d[at + 11:])"
        )
        commands = [
            "mkdir -p $DESTDIR/usr/bin",
            "$CC -o $DESTDIR/usr/bin/left -Wl,-rpath,/usr/lib/x:/step/sysroot/usr/lib main.c",
            f'python3 -c "{shorten}" $DESTDIR/usr/bin/left',
            "$CC -o $DESTDIR/usr/bin/used -Wl,-rpath,/usr/lib/x:/step/sysroot/usr/lib main.c",
            "$CC -o $DESTDIR/usr/bin/said main.c -DTEXT='\"/step/sysroot/usr/lib\"'",
        ]
        source = '#include <stdio.h>\n#ifndef TEXT\n#define TEXT "gull"\n#endif\nint main(void) { return puts(TEXT) < 0; }\n'
        self.recipe("left", " && ".join(commands), {"main.c": source}, more='programs = ["python3"]')
        self.write("w/s/images/i.toml", 'packages = ["init", "left"]\n')
        said = " ".join(self.build().split())
        # One that the loader would follow, and one that the program has, stay and are told, in one note.
        self.assertIn("left: /usr/bin/said, /usr/bin/used hold a path of the build, /step/…", said)
        self.yarrik("inspect", "out/p/p.img", "--extract", "/usr/bin/left", "--to", self.folder / "taken", at=self.root)
        file = self.folder / "taken/left"
        self.assertNotIn(b"/step/", file.read_bytes())
        self.assertIn("Library runpath: [/usr/lib/x]", self.tool("readelf", "-d", file))
        self.assertEqual(self.tool(file), "gull\n")

    def test_an_init_that_is_not_there_or_not_executable_is_stopped(self) -> None:
        self.write("w/s/profiles/p.toml", 'init = "init"\ninit-path = "/sbin/first"\n')
        self.assertIn("error INIT-MISSING: there is no init at /sbin/first", self.build(1))
        self.write("w/s/profiles/p.toml", 'init = "init"\ninit-path = "/etc/hostname"\n')
        self.assertIn("is not executable", self.build(1))

    def test_a_kernel_without_a_header_is_stopped(self) -> None:
        self.recipe("kernel", "mkdir -p $DESTDIR/boot && echo no > $DESTDIR/boot/Image && echo no > $DESTDIR/boot/bzImage")
        self.assertIn("error BOOT-KERNEL-FORM", self.build(1))

    def test_a_missing_library_names_who_loads_it(self) -> None:
        self.recipe("lib", "mkdir -p $DESTDIR/usr/lib && $CC -shared -Wl,-soname,libz9.so.1 -o $DESTDIR/usr/lib/libz9.so.1 l.c"
                    " && ln -s libz9.so.1 $DESTDIR/usr/lib/libz9.so && mkdir $DESTDIR/etc && touch $DESTDIR/etc/lib", {"l.c": "int z9(void){return 9;}\n"},
                    package='[package.lib]\nfiles = ["/etc/lib"]')  # fmt: skip
        self.recipe("app", "mkdir -p $DESTDIR/bin && $CC $LDFLAGS -o $DESTDIR/bin/app a.c -lz9",
                    {"a.c": "int z9(void);\nint main(void){return z9();}\n"}, more='needs = ["lib"]')  # fmt: skip
        self.write("w/s/images/i.toml", 'packages = ["init", "app"]\n')
        said = self.build(1)
        self.assertIn("error LIBRARY-MISSING: /bin/app of the package `app` loads libz9.so.1", said)

    def test_missing_tools_sources_and_compilers_are_told_before_anything_runs(self) -> None:
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace('arch = "host"', 'arch = "arm64"\n[toolchain]\nprefix = "gone-linux-gnu-"'))
        said = self.build(2)
        self.assertIn("error HOST-TOOL-MISSING: the program `gone-linux-gnu-gcc` is not on this machine", said)
        self.assertIn("s/boards/b.toml:3 [toolchain.prefix]", said)
        board.write_text(board.read_text().replace('prefix = "gone-linux-gnu-"', 'prefix = ""'))
        if os.uname().machine != "aarch64":
            self.assertIn("error TOOLCHAIN-ARCH", self.build(2))
        board.write_text(board.read_text().replace('arch = "arm64"', 'arch = "host"'))
        shutil.rmtree(self.root / "s/recipes/init/src")
        self.assertIn("error SOURCE-MISSING", self.build(2))

    def test_sources_from_the_host_are_locked(self) -> None:
        archive = self.folder / "gauge.tar"
        self.write("gauge/file", "one")
        subprocess.run(["tar", "-C", self.folder, "-cf", archive, "gauge"], check=True)
        self.recipe("gauge", "mkdir -p $DESTDIR/etc && cp file $DESTDIR/etc/gauge")
        recipe = self.root / "s/recipes/gauge/recipe.toml"
        recipe.write_text(recipe.read_text().replace('path = "src"', f'host-file = "{archive}"'))
        self.write("w/s/images/i.toml", 'packages = ["init", "gauge"]\n')
        self.build()
        first = (self.root / "yarrik.lock").read_text()
        self.write("gauge/file", "two")
        subprocess.run(["tar", "-C", self.folder, "-cf", archive, "gauge"], check=True)
        said = self.build(2)
        self.assertIn("error SOURCE-CHANGED", said)
        self.assertIn("--renew-lock", said)
        self.build(0, "--renew-lock")
        self.assertNotEqual((self.root / "yarrik.lock").read_text(), first)

    def test_sources_in_folders_with_blanks_and_odd_names_build(self) -> None:
        self.recipe("odd", "mkdir -p $DESTDIR/etc && cat 'a b' > $DESTDIR/etc/odd", {"a b": "x"})
        self.write("w/s/images/i.toml", 'packages = ["init", "odd"]\n')
        moved = self.folder / "a workspace; with $odd 'name'"
        self.root.rename(moved)
        self.root = moved
        self.build()

    def test_outside_a_workspace_and_for_unknown_words_the_request_is_wrong(self) -> None:
        self.assertIn("error WORKSPACE-MISSING", self.yarrik("build", code=2))
        self.assertIn("did you mean `p`?", self.yarrik("build", "pp", code=2, at=self.root))
        self.yarrik("bild", code=2)
        self.yarrik("build", "--no-such-option", code=2)
        troubles = self.yarrik_json("build", "nothing", code=2, at=self.root)["troubles"]
        self.assertEqual(troubles[0]["code"], "PRODUCT-UNKNOWN")

    def test_a_device_tree_that_does_not_compile_names_the_file_that_people_edit(self) -> None:
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace('recipe = "kernel"', 'recipe = "kernel"\ndevice-tree = "b.dts"'))
        said = self.build(2)
        self.assertIn("error DEVICE-TREE-MISSING", said)
        self.write("w/s/boards/b.dts", '/dts-v1/;\n/include/ "b.dtsi"\n')
        self.write("w/s/boards/b.dtsi", "/ { uart: serial { }; };\n&urat { };\n")
        said = self.build(1)
        self.assertRegex(said, r"error DTS-SYNTAX: nothing is called `urat` \(column 1\)\n  where  s/boards/b.dtsi:2\n")
        self.assertIn("did you mean `uart`?", said)

    def test_a_broken_memory_is_begun_anew(self) -> None:
        self.build()
        (self.root / ".yarrik/memory.sqlite").write_bytes(b"not a database at all, " * 100)
        for name in ("memory.sqlite-wal", "memory.sqlite-shm"):
            (self.root / ".yarrik" / name).unlink(missing_ok=True)
        self.assertIn("kept", self.build())

    def test_a_partition_that_is_too_small_says_what_weighs_most(self) -> None:
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text() + 'size = "5 MiB"\n')
        said = self.build(1)
        self.assertIn("error PARTITION-FULL", said)
        self.assertRegex(said, r"what weighs most: libc \d")


if __name__ == "__main__":
    unittest.main()
