"""Steps at hand: a part of a build, a shell where a step runs, the log of what failed."""

import itertools
import shutil
import unittest

from tests.support import WorkspaceTest
from yarrik.report.timeline import longest_way, places_of
from yarrik.run import Span


class StepsAreAtHand(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.recipe("lib", "mkdir -p $DESTDIR/usr/include && cp lib.h $DESTDIR/usr/include", {"lib.h": "#define LEVEL 7\n"})
        command = "mkdir -p $DESTDIR/bin && $CC $CFLAGS $LDFLAGS -o $DESTDIR/bin/app app.c"
        source = "#include <lib.h>\nint main(void) { return LEVEL; }\n"
        self.recipe("app", command, {"app.c": source}, more='needs = ["lib"]')
        self.write("w/s/images/i.toml", 'packages = ["init", "app"]\n')

    def test_a_build_up_to_one_step_runs_what_it_needs_and_publishes_nothing(self) -> None:
        report = self.yarrik_json("build", "--until", "build app", at=self.root)
        self.assertEqual(self.ran(report), ["prepare lib", "build lib", "stage lib", "prepare app", "build app"])
        self.assertFalse((self.root / "out").exists())
        trouble = self.yarrik_json("build", "--until", "build ap", code=2, at=self.root)["troubles"][0]
        self.assertEqual((trouble["code"], trouble["remedy"]), ("STEP-UNKNOWN", "did you mean `build app`?"))

    def test_a_shell_sees_what_the_step_sees_and_its_script_does_what_the_step_does(self) -> None:
        script = "pwd; cat sysroot/usr/include/lib.h; id -u; ./step; stage/bin/app; echo $?; echo x > sysroot/x"
        said = self.yarrik("enter", "app", "--command", script, code=2, at=self.root)  # the sysroot is read-only
        self.assertIn("/step\n#define LEVEL 7\n1000\n", said)
        self.assertIn("\n7\n", said)
        self.assertIn("Read-only", said)

    def test_the_folder_stays_as_it_was_left_until_it_is_laid_out_anew(self) -> None:
        self.yarrik("enter", "app", "--command", "echo kept > source/note", at=self.root)
        self.assertIn("kept", self.yarrik("enter", "app", "--command", "cat source/note", at=self.root))
        self.yarrik("enter", "app", "--fresh", "--command", "test ! -e source/note", at=self.root)
        self.assertEqual((self.root / "s/recipes/app/src").joinpath("note").exists(), False)

    def test_it_works_for_a_step_that_fails_and_the_log_of_that_is_found(self) -> None:
        self.write("w/s/recipes/app/src/app.c", "#include <lib.h>\nint main(void) { return LEVLE; }\n")
        self.yarrik("build", code=1, at=self.root)
        self.assertIn("LEVLE", self.yarrik("log", "--last-failure", at=self.root))
        self.assertIn("LEVLE", self.yarrik("log", "app", at=self.root))
        self.yarrik(
            "enter", "app", "--command", "sed -i s/LEVLE/LEVEL/ source/app.c && ./step && stage/bin/app", code=7, at=self.root
        )
        trouble = self.yarrik_json("log", "--last-failure", "--product", "p", "--set", "image.hostname=x", at=self.root)
        self.assertEqual(trouble["step"], "build app")

    def test_a_timeline_needs_steps_that_ran_here(self) -> None:
        """A build that takes all from the cache, as a colleague's first one may, is followed by what makes one."""
        self.yarrik("build", at=self.root)
        shutil.rmtree(self.root / ".yarrik")
        self.yarrik("build", at=self.root)
        said = self.yarrik("timeline", code=2, at=self.root)
        self.assertIn("error TIMELINE-MISSING: no step of `p` ran here: the cache had all of them", said)
        self.assertIn("yarrik build p --clean-room", said)
        self.yarrik("build", "p", "--clean-room", at=self.root)
        self.assertIn("critical path", self.yarrik("timeline", at=self.root))

    def test_the_timeline_tells_who_ran_when_and_what_everything_waited_for(self) -> None:
        self.assertIn("error TIMELINE-MISSING: nothing of `p` was built here", self.yarrik("timeline", code=2, at=self.root))
        self.yarrik("build", at=self.root)
        told = self.yarrik_json("timeline", at=self.root)
        way = told["longest-way"]
        ended = {one["step"]: one["began"] + one["seconds"] for one in told["steps"]}
        began = {one["step"]: one["began"] for one in told["steps"]}
        # Times are in milliseconds, and two of the last steps may end within one.
        self.assertGreaterEqual(ended[way[-1]] + 0.002, max(ended.values()))
        for before, after in itertools.pairwise(way):
            self.assertLessEqual(ended[before], began[after] + 0.002)
        self.assertRegex(self.yarrik("timeline", at=self.root), r"critical path: \d+ steps?, ")
        for form, magic in (("png", b"\x89PNG"), ("svg", b"<?xml")):
            self.yarrik("timeline", "--figure", f"t.{form}", at=self.root)
            self.assertTrue((self.root / f"t.{form}").read_bytes().startswith(magic))

    def test_steps_of_yarrik_s_own_have_no_shell(self) -> None:
        said = self.yarrik("enter", "app", "split", code=2, at=self.root)
        self.assertIn("error STEP-NO-COMMANDS", said)
        self.assertIn("did you mean `build app`?", said)


class TimelinesAreDrawn(unittest.TestCase):
    def test_steps_share_places_and_the_longest_way_goes_back_from_the_last(self) -> None:
        spans = [
            Span("a", 0.0, 2.0, False, ()),
            Span("b", 0.0, 5.0, False, ()),
            Span("c", 2.0, 1.0, False, ("a",)),
            Span("d", 5.0, 1.0, False, ("b", "c")),
            Span("e", 5.0, 0.5, True, ("kept",)),
        ]
        self.assertEqual(places_of(spans), [0, 1, 0, 0, 1])
        self.assertEqual([span.step for span in longest_way(spans)], ["b", "d"])


if __name__ == "__main__":
    unittest.main()
