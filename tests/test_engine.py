"""What a build tells and keeps to: bounds, the clean room, events, warnings of the tools, room on the disk, the second run."""

import json
import os
import shutil
import subprocess
import sys
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from tests.support import FolderTest, WorkspaceTest
from yarrik.cache import Cost, Memory
from yarrik.errors import YarrikError
from yarrik.model.rules import check_public_key, check_span
from yarrik.run.failed_logs import telling_lines
from yarrik.run.room import short_of_room
from yarrik.run.step_logs import new_log
from yarrik.run.warnings import MOST, warnings_in
from yarrik.units import parse_span, shown_seconds


class WorkspaceWithSlow(WorkspaceTest):
    def slow(self, command: str, more: str = "") -> None:
        self.recipe("slow", f"mkdir -p $DESTDIR/usr/share && {command}", more=more, package='[package.slow]\nfiles = ["**"]')
        (self.root / "s/images/i.toml").write_text('packages = ["init", "slow"]\n')


class StepsKeepToTheirBounds(WorkspaceWithSlow):
    def test_one_that_takes_too_long_is_ended_and_told(self) -> None:
        for sandbox in ((), ("--no-sandbox",)):
            self.slow(f"sleep 5{os.getpid()}", 'time-limit = "2 s"')
            report = self.yarrik_json("build", *sandbox, code=1, at=self.root)
            trouble = report["troubles"][0]
            self.assertEqual(trouble["code"], "STEP-OVER-LIMIT")
            self.assertIn("took longer than 2 s", trouble["what"])
            self.assertLess(report["seconds"], 600)
            self.assertEqual(subprocess.run(["pgrep", "-f", f"^sleep 5{os.getpid()}"], capture_output=True).stdout, b"")

    def test_one_that_writes_without_end_is_ended_before_the_disk_is_full(self) -> None:
        self.slow("yes the tide is high", 'output-limit = "4 MiB"')
        report = self.yarrik_json("build", code=1, at=self.root)
        self.assertEqual(report["troubles"][0]["code"], "STEP-OVER-LIMIT")
        self.assertIn("more than 4.0 MiB", report["troubles"][0]["what"])

    def test_bounds_and_weights_are_no_part_of_the_result(self) -> None:
        self.slow("echo x > $DESTDIR/usr/share/x")
        self.yarrik("build", at=self.root)
        self.slow("echo x > $DESTDIR/usr/share/x", 'time-limit = "1 h"\noutput-limit = "1 MiB"\nmemory = "2 GiB"\nweight = 9')
        self.assertIn("nothing to do", self.yarrik("build", at=self.root))

    def test_a_heavy_step_runs_beside_no_other(self) -> None:
        for name in ("one", "two", "three"):
            command = f"mkdir -p $DESTDIR/usr/share/{name} && date +%s%N > $DESTDIR/usr/share/{name}/a && sleep 0.4 && date +%s%N > $DESTDIR/usr/share/{name}/b"
            self.recipe(name, command, more="weight = 4" if name == "two" else "", package=f'[package.{name}]\nfiles = ["**"]')
        (self.root / "s/images/i.toml").write_text('packages = ["init", "one", "two", "three"]\n')
        self.yarrik("build", "--jobs", "4", at=self.root)
        spans = {
            span["step"]: (span["began"], span["began"] + span["seconds"])
            for span in self.yarrik_json("timeline", at=self.root)["steps"]
        }
        begin, end = spans["build two"]
        for name, (began, ended) in spans.items():
            if name != "build two" and ended - began > 0.05:
                self.assertFalse(began < end - 0.05 and ended > begin + 0.05, f"{name} ran beside the heavy one: {spans}")

    def test_tools_that_are_told_a_number_share_the_budget_too(self) -> None:
        for name in ("one", "two", "three"):
            at = f"$DESTDIR/usr/share/{name}"
            self.recipe(name, f"mkdir -p {at} && echo {{jobs}} $(date +%s%N) > {at}/a && sleep 0.7",
                        package=f'[package.{name}]\nfiles = ["**"]')  # fmt: skip
        (self.root / "s/images/i.toml").write_text('packages = ["init", "one", "two", "three"]\n')
        self.yarrik("build", "--jobs", "9", at=self.root)
        changes = []
        for name in ("one", "two", "three"):
            target = self.folder / f"got-{name}"
            self.yarrik("inspect", "out/p/p.img", "--extract", f"/usr/share/{name}/a", "--to", target, at=self.root)
            count, began = next(path for path in target.rglob("a") if path.is_file()).read_text().split()
            changes += [(int(began), int(count)), (int(began) + 700_000_000, -int(count))]
        taken = most = 0
        for _, change in sorted(changes):
            taken += change
            most = max(most, taken)
        self.assertLessEqual(most, 9)
        self.assertGreater(max(change for _, change in changes), 1, "nobody was given more than one job")

    def test_spans_of_time(self) -> None:
        self.assertEqual(
            [parse_span(text) for text in ("90 s", "20min", "8 h", "30d", "2w")], [90, 1200, 28800, 2592000, 1209600]
        )
        self.assertEqual(
            [shown_seconds(value) for value in (4.4, 130, 1200, 7200, 9000)],
            ["4 s", "2 min 10 s", "20 min", "2 h", "2 h 30 min"],
        )
        for bad in ("", "soon", "3", "3 fortnights"):
            with self.assertRaises(ValueError):
                check_span(bad)
        with self.assertRaises(ValueError):
            check_public_key("ed25519:short=")


class WhatIsLetIn(WorkspaceWithSlow):
    def test_only_named_variables_come_in_count_and_stay_out_of_a_clean_room(self) -> None:
        self.slow('echo "$PORT_WORD-$OTHER" > $DESTDIR/usr/share/word', 'let-in = ["PORT_WORD"]')
        self.environment |= {"PORT_WORD": "flood", "OTHER": "ebb"}

        self.yarrik("build", at=self.root)
        self.assertEqual(self.content(), "flood-\n")
        self.environment["OTHER"] = "more"
        self.assertIn("nothing to do", self.yarrik("build", at=self.root))
        self.environment["PORT_WORD"] = "neap"
        self.assertIn("environment.PORT_WORD changed: flood → neap", self.yarrik("plan", at=self.root))
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content(), "neap-\n")
        report = self.yarrik_json("build", "--clean-room", at=self.root)
        self.assertEqual([step["how"] for step in report["steps"] if step["how"] != "ran"], [])
        self.assertEqual(self.content(), "-\n")
        self.assertFalse((self.root / ".yarrik/clean-room").exists())

    def content(self) -> str:
        target = self.folder / "extracted"
        shutil.rmtree(target, ignore_errors=True)
        self.yarrik("inspect", "out/p/p.img", "--extract", "/usr/share/word", "--to", target, at=self.root)
        return next(path for path in target.rglob("word") if path.is_file()).read_text()


class ABuildTells(WorkspaceWithSlow):
    def test_events_as_lines_for_machines(self) -> None:
        lines = [json.loads(line) for line in self.yarrik("build", "--json", at=self.root).splitlines()]
        started = [line["step"] for line in lines if line["event"] == "step-started"]
        ended = [line for line in lines if line["event"] == "step-ended"]
        self.assertEqual(sorted(started), sorted(line["step"] for line in ended))
        self.assertEqual({line["how"] for line in ended}, {"ran"})
        self.assertEqual(ended[-1]["progress"]["ran"], len(ended))
        self.assertEqual(ended[-1]["progress"]["steps"], len(lines[-1]["steps"]))
        self.assertEqual(lines[-1]["event"], "end")
        again = [json.loads(line) for line in self.yarrik("build", "--json", at=self.root).splitlines()]
        self.assertEqual([line["event"] for line in again], ["end"])

    def test_a_line_for_each_step_without_a_terminal_and_a_failure_at_once(self) -> None:
        self.slow("false")
        text = self.yarrik("build", "--keep-going", code=1, at=self.root)
        self.assertRegex(text, r"(?m)^  ✓ build init +\d+\.\d\d s  never built here$")
        self.assertRegex(text, r"(?m)^  ✗ build slow +\d+\.\d\d s  never built here$")
        self.assertLess(text.index("✗ build slow"), text.index("error STEP-FAILED"))

    def test_what_was_kept_is_counted_in_time(self) -> None:
        self.slow("sleep 2; echo x > $DESTDIR/usr/share/x")
        self.yarrik("build", at=self.root)
        file = self.root / "s/recipes/init/src/init.c"
        file.write_text(file.read_text() + "int more;\n")
        self.assertRegex(self.yarrik("build", at=self.root), r"; about ([2-9]|\d\d+)\.\d s saved")

    def test_a_live_view_with_a_terminal(self) -> None:
        self.slow("sleep 3; echo x > $DESTDIR/usr/share/x")
        words = f"{sys.executable} -m yarrik build"
        environment = {**self.environment, "TERM": "xterm-256color", "COLUMNS": "110", "LINES": "40"}
        environment.pop("NO_COLOR")
        done = subprocess.run(["script", "-qec", words, "/dev/null"], cwd=self.root, env=environment, stdin=subprocess.DEVNULL,
                              capture_output=True, timeout=120)  # fmt: skip
        text = done.stdout.decode()
        self.assertEqual(done.returncode, 0, text)
        self.assertRegex(text, r"\d+ of \d+ steps")
        self.assertRegex(text, r"build slow[^\n]* [123] s")
        self.assertIn("steps ran", text)

    def test_a_log_that_grows_is_followed_to_its_end(self) -> None:
        self.slow("for number in 1 2 3 4 5; do echo reading $number; sleep 1; done")
        build = threading.Thread(target=self.yarrik, args=("build",), kwargs={"at": self.root})
        follower = subprocess.Popen(
            [sys.executable, "-m", "yarrik", "log", "build", "slow", "--follow"],
            cwd=self.root,
            env=self.environment,
            stdout=subprocess.PIPE,
        )
        build.start()
        assert follower.stdout is not None
        self.addCleanup(follower.stdout.close)
        seen: list[tuple[float, bytes]] = [(time.monotonic(), line) for line in follower.stdout if line.startswith(b"reading")]
        build.join()
        self.assertEqual(follower.wait(30), 0)
        self.assertEqual([line for _, line in seen], [f"reading {number}\n".encode() for number in range(1, 6)])
        self.assertGreater(seen[-1][0] - seen[0][0], 0.8, "it came only when all was over")
        self.assertIn("error STEP-UNKNOWN", self.yarrik("log", "build", "nothing", "--follow", code=2, at=self.root))

    def test_a_log_is_locked_before_it_can_be_seen(self) -> None:
        path = self.folder / "logs/p/build-slow.log"
        seen: list[bytes] = []
        for _ in range(2):
            with (
                mock.patch(
                    "yarrik.run.step_logs.fcntl.flock", lambda *_: seen.append(path.read_bytes() if path.is_file() else b"")
                ),
                new_log(path) as log,
            ):
                log.write(b"reading\n")
        self.assertEqual((seen, path.read_bytes()), ([b"", b"reading\n"], b"reading\n"))
        self.assertEqual([one.name for one in path.parent.iterdir()], ["build-slow.log"])
        with mock.patch("os.replace", side_effect=OSError("no room")), self.assertRaisesRegex(OSError, "no room"):
            new_log(path)
        self.assertEqual([one.name for one in path.parent.iterdir()], ["build-slow.log"])


class FailuresAreTold(WorkspaceWithSlow):
    def test_the_first_error_is_shown_even_when_much_comes_after_it(self) -> None:
        self.slow("echo src/tide.c:7:3: error: no such level; seq 1 200; exit 3")
        text = self.yarrik("build", code=1, at=self.root)
        self.assertIn("the first error in the log:", text)
        self.assertIn("src/tide.c:7:3: error: no such level", text)
        self.assertIn("yarrik enter slow", text)
        self.assertIn("         200\n", text)

    def test_without_an_error_that_reads_as_one_the_end_is_shown(self) -> None:
        log = self.write("log", "".join(f"line {number}\n" for number in range(100)) + "STEP-FAILED: `sh` ended\n")
        heading, lines = telling_lines(log)
        self.assertEqual((heading, lines[-1], len(lines)), ("the log's last lines", "line 99", 12))
        self.assertEqual(telling_lines(self.folder / "none")[1], [])


class WarningsOfTheTools(WorkspaceWithSlow):
    def test_those_that_matter_are_listed_once_and_the_rest_is_counted(self) -> None:
        self.recipe("init", "mkdir -p $DESTDIR/sbin && $CC -Wall $CFLAGS $LDFLAGS -o $DESTDIR/sbin/init init.c && $CC -Wall -c -o /dev/null init.c",
                    {"init.c": "#include <stdio.h>\nint main(void) { int unused; char b[2]; return printf(b) + f(); }\nint f(void) { return 0; }\n"})  # fmt: skip
        report = self.yarrik_json("build", at=self.root)
        found = report["tool-warnings"]
        self.assertGreaterEqual(found["count"], 3)
        self.assertEqual(found["recipes"], 1)
        self.assertEqual((found["grave"][0]["recipe"], found["grave"][0]["where"]), ("init", "init.c:2"))
        self.assertIn("implicit declaration", found["grave"][0]["what"])
        self.assertEqual(self.yarrik_json("build", at=self.root)["tool-warnings"]["count"], 0)

    def test_the_gravest_come_first_and_few(self) -> None:
        line = "a.c:{}:3: warning: something [-W{}]\n"
        log = FolderTest.write(self, "log", "".join(line.format(number, "unused-variable" if number % 2 else "uninitialized") for number in range(40))
                               + line.format(99, "implicit-function-declaration") * 2 + "note: no warning: at all\n")  # fmt: skip
        found = warnings_in([("tide", log), ("gone", self.folder / "nothing")])
        self.assertEqual((found.count, found.recipes, len(found.grave)), (41, 1, MOST))
        self.assertEqual(found.grave[0].where, "a.c:99")


class RoomOnTheDisk(WorkspaceTest):
    def test_less_than_the_last_build_took_is_told_beforehand(self) -> None:
        self.yarrik("build", at=self.root)
        self.assertEqual(self.yarrik_json("check", at=self.root)["warnings"], [])
        memory = Memory(self.root / ".yarrik/memory.sqlite")
        cost = memory.costs("p")["write p"]
        self.assertGreater(cost.left, 100_000)
        huge = shutil.disk_usage(self.root).total
        memory.took("p", "build init", Cost(1.0, 0, huge))
        memory.close()
        self.assertEqual(self.yarrik_json("check", at=self.root)["warnings"], [], "what is kept takes no room")
        (self.root / "s/recipes/init/src/init.c").write_text("int main(void) { return 3; }\n")
        warning = self.yarrik_json("check", at=self.root)["warnings"][0]
        self.assertEqual(warning["code"], "DISK-SPACE")
        self.assertIn("yarrik cache prune", warning["remedy"])
        self.assertIn("warning DISK-SPACE", self.yarrik("build", at=self.root))

    def test_the_largest_work_folders_and_all_that_is_left_count(self) -> None:
        free = shutil.disk_usage(self.folder).free
        costs = {"a": Cost(1, free // 2, 0), "b": Cost(1, free // 2, 0), "c": Cost(1, free // 4, free // 4)}
        for steps, jobs, short in (
            (["a"], 1, False),
            (["a", "b", "c"], 1, False),
            (["a", "b", "c"], 2, True),
            (["x"], 1, False),
        ):
            self.assertEqual(
                short_of_room(steps, costs, self.folder / "w", self.folder / "cache", jobs) is not None, short, (steps, jobs)
            )


class TheSecondRun(WorkspaceWithSlow):
    def test_what_comes_out_the_same_is_proven_and_what_does_not_is_shown_by_its_bytes(self) -> None:
        self.assertRegex(self.yarrik("prove", at=self.root), r"all \d+ steps gave the same result")
        self.slow('echo "built at $(date +%s%N)" > $DESTDIR/usr/share/stamp; echo same > $DESTDIR/usr/share/same')
        text = self.yarrik("prove", code=1, at=self.root)
        self.assertIn("warning BUILD-VARIES: step `build slow` gives a different result when it runs again", text)
        self.assertRegex(
            text,
            r"/usr/share/stamp: at byte \d+, `[0-9]+.*` came out as `[0-9]+.*`|/usr/share/stamp: at byte \d+, [0-9a-f ]+ came out as",
        )
        self.assertNotIn("/usr/share/same", text)
        told = self.yarrik_json("prove", "--recipe", "slow", code=1, at=self.root)
        self.assertEqual([one["step"] for one in told["steps"]], ["build slow", "stage slow", "split slow"])
        self.assertEqual([one["same"] for one in told["steps"]], [False, True, True])
        self.assertTrue(self.yarrik_json("prove", "--recipe", "init", at=self.root)["ok"])
        self.assertIn("error RECIPE-UNKNOWN", self.yarrik("prove", "--recipe", "slaw", code=2, at=self.root))


class ASitesSettings(WorkspaceTest):
    def test_the_workspaces_own_have_the_last_word_and_mistakes_have_a_line(self) -> None:
        settings = self.write("settings.toml", 'jobs = 3\ncache = "elsewhere"\n')
        self.environment["YARRIK_SETTINGS"] = str(settings)
        self.environment.pop("YARRIK_CACHE")
        self.write("w/yarrik.local.toml", '[settings]\ncache = "nearer"\n')
        self.yarrik("build", at=self.root)
        self.assertTrue((self.root / "nearer/objects").is_dir())
        self.assertFalse((self.root / "elsewhere").exists())
        settings.write_text('jobs = 3\ncahce = "x"\n')
        text = self.yarrik("build", code=2, at=self.root)
        self.assertIn("settings.toml:2", text)
        self.assertIn("cache", text)
        settings.write_text("")
        self.write("w/yarrik.local.toml", '[settings]\ntrusted-keys = ["x"]\n')
        self.assertIn("yarrik.local.toml:2", self.yarrik("build", code=2, at=self.root))

    def test_mirrors_are_asked_first(self) -> None:
        from yarrik.plan import Download, Graph, Step
        from yarrik.run.planning import _with_mirrors

        step = Step("fetch", "tide", Download(sha256="0" * 64), urls=("https://example.org/a/b.tar", "https://other.example/b"))
        graph = _with_mirrors(Graph("p", (step,)), {"https://example.org/": ["https://near.example/x/"]})  # type: ignore[arg-type]
        self.assertEqual(
            graph.steps[0].urls, ("https://near.example/x/a/b.tar", "https://example.org/a/b.tar", "https://other.example/b")
        )

    def test_errors_of_the_engine_are_troubles(self) -> None:
        with self.assertRaises(YarrikError):
            from yarrik.cache.places import storage_at
            from yarrik.errors import Place

            storage_at("gopher://example.org", "", 1.0, Place(Path(os.devnull)))


if __name__ == "__main__":
    unittest.main()
