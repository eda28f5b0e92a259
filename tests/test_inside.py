"""What an image brings itself: files laid over, templates, names and places, attributes; each with its origin."""

import json
import os
import re
import shutil
import subprocess
import unittest
from pathlib import Path

from tests.support import FolderTest, WorkspaceTest
from yarrik.capabilities import ATTRIBUTE, NAMES, decode_capabilities, encode_capabilities
from yarrik.elf import read_elf
from yarrik.errors import Damaged, Unfit, YarrikError
from yarrik.plan.inside import _fits
from yarrik.plan.templates import TemplateUnfit, filled
from yarrik.resolve import BuiltPackage
from yarrik.rootfs import library_cache, read_folder
from yarrik.rootfs.loader_cache import _order
from yarrik.run.advice import check_licences, check_symbol_versions

NAMED = {"hostname": "kittiwake", "values": {"port": "Gull Rock", "items": "3"}}


class TemplatesAreStrict(unittest.TestCase):
    def unfit(self, text: str) -> TemplateUnfit:
        with self.assertRaises(TemplateUnfit) as caught:
            filled(text, NAMED)
        return caught.exception

    def test_what_is_there_is_filled_in(self) -> None:
        text = "host {{ hostname }}\n{% for n in [1, 2] %}\npier {{ n }}\n{% endfor %}\nat {{ values.port|upper }} <&>\n"
        self.assertEqual(filled(text, NAMED), "host kittiwake\npier 1\npier 2\nat GULL ROCK <&>\n")
        self.assertEqual(filled("plain $text {x} 100%\n", {}), "plain $text {x} 100%\n")
        self.assertEqual(filled("{{ values['port'] }}", NAMED), "Gull Rock")

    def test_what_is_not_there_has_a_line(self) -> None:
        for text, line, words in (
            ("a\nb\n{{ hostnam }}\n", 3, "there is no `hostnam`"),
            ("\n{{ values.prot }}", 2, "there is no `prot`"),
            ("{% if hostnam %}x{% endif %}", 1, "there is no `hostnam`"),
            ("x\n{% if %}\n", 2, "Expected an expression"),
            ("x\n\n{{ 1 / 0 }}", 3, "division by zero"),
            ("{% for %}", 1, ""),
            ("{{ hostname + 1 }}", 1, ""),
            ("{{ unclosed", 1, ""),
        ):
            error = self.unfit(text)
            self.assertEqual(error.line, line, text)
            self.assertIn(words, str(error))

    def test_a_hostile_one_reaches_nothing(self) -> None:
        for text in (
            "{{ ''.__class__.__mro__[1].__subclasses__() }}",
            "{{ values.__init__.__globals__ }}",
            "{{ cycler.__init__.__globals__.os.popen('id').read() }}",
            "{% include '/etc/passwd' %}",
            "{% import 'x' as x %}",
            "{{ range(100000000)|list }}",
            "{% set x = namespace() %}",
            "{{ values.update({'port': 'x'}) }}",
            "{{ '%s'|format(hostname.format) }}{{ [1,2]|random }}",
            "{% for a in 'x' * 5000000 %}y{% endfor %}",
        ):
            self.assertTrue(str(self.unfit(text)), text)
        # None of Python's own names is there.
        self.unfit("{{ lipsum() }}")
        self.unfit("{{ dict(a=1) }}")


class CapabilitiesAreThoseOfTheKernel(FolderTest):
    def test_as_setcap_writes_them(self) -> None:
        for text in ("cap_net_raw=ep", "cap_net_admin,cap_net_raw+eip", "cap_checkpoint_restore,cap_chown=p", "cap_sys_time=i",
                     "cap_bpf=ep cap_chown=ep", "cap_kill=p cap_setuid=i"):  # fmt: skip
            file = self.write("x", "")
            self.tool("setcap", text, file)
            self.assertEqual(encode_capabilities(text), os.getxattr(file, ATTRIBUTE), text)
            again = decode_capabilities(os.getxattr(file, ATTRIBUTE))
            self.assertEqual(encode_capabilities(again), encode_capabilities(text), again)
            file.unlink()

    def test_the_names_are_in_the_kernel_s_order(self) -> None:
        header = Path("/usr/include/linux/capability.h").read_text()
        numbers = dict(
            line.split()[1:3] for line in header.splitlines() if line.startswith("#define CAP_") and len(line.split()) == 3
        )
        for number, name in enumerate(NAMES):
            self.assertEqual(numbers.get(name.upper()), str(number), name)

    def test_values_of_others(self) -> None:
        for value in (b"", bytes(20), bytes(3) + b"\1" + bytes(16), b"\1\0\0\2" + bytes(15)):
            with self.assertRaises(Damaged):
                decode_capabilities(value)
        self.assertEqual(decode_capabilities(b"\1\0\0\3" + bytes(11) + b"\x80" + bytes(8)), "cap_63=ep")

    def test_what_is_no_set_of_capabilities(self) -> None:
        for text, words in (
            ("cap_net_rav=ep", "did you mean `cap_net_raw`?"),
            ("cap_net_raw", "is not a set"),
            ("=ep", "is not a set"),
            ("cap_net_raw=e", "gives no capability"),
            ("", "gives no capability"),
            ("cap_kill=ep cap_chown=p", "or none of them"),
        ):
            with self.assertRaises(Unfit) as caught:
                encode_capabilities(text)
            self.assertIn(words, str(caught.exception))


class RulesFit(unittest.TestCase):
    def test_patterns(self) -> None:
        for pattern, path, fits in (
            ("/etc/keys/**", "/etc/keys/a/b", True), ("/etc/keys/**", "/etc/keys", False), ("/etc/*.key", "/etc/a.key", True),
            ("/etc/*.key", "/etc/a/b.key", False), ("/etc/keys", "/etc/keys/a", True), ("/etc/keys", "/etc/keysx", False),
            ("/e+c", "/e+c", True), ("/etc/*", "/etc/a\nb", True),
        ):  # fmt: skip
            self.assertEqual(_fits(pattern, path), fits, (pattern, path))


class AnImageBringsItsOwn(WorkspaceTest):
    def image(self, more: str, packages: str = '"init"') -> None:
        (self.root / "s/images/i.toml").write_text(f"packages = [{packages}]\n{more}")

    def files(self) -> dict[str, dict]:
        rows = json.loads((self.root / "out/p/files.json").read_text())["files"]
        return {row["path"]: row for row in rows}

    def test_a_tree_with_rules_templates_and_links(self) -> None:
        self.write("w/s/images/over/etc/gauge.conf", "port = {{ values.port }}\nhost = {{ hostname }}\n")
        self.write("w/s/images/over/etc/raw.conf", "port = {{ values.port }}\n")
        self.write("w/s/images/over/usr/bin/tool", "#!/bin/sh\n").chmod(0o700)
        self.write("w/s/images/over/etc/keys/door", "secret of the pier\n")
        (self.root / "s/images/over/etc/gauge").symlink_to("gauge.conf")
        self.image("""
hostname = "gull"
[values]
port = "Gull Rock"
[[user]]
name = "tide"
[[group]]
name = "door"
[[tree]]
from = "over"
[[tree.rule]]
files = "/etc/*.conf"
template = true
[[tree.rule]]
files = "/etc/raw.conf"
template = false
[[tree.rule]]
files = "/etc/keys"
owner = "tide"
group = "door"
mode = "0640"
[[file]]
path = "/etc/keys/gate"
content = "at {{ values.port }}"
template = true
[[link]]
path = "/etc/door"
to = "keys/door"
""")
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/gauge.conf"), "port = Gull Rock\nhost = gull\n")
        self.assertEqual(self.content("/etc/raw.conf"), "port = {{ values.port }}\n")
        self.assertEqual(self.content("/etc/keys/gate"), "at Gull Rock")
        files = self.files()
        self.assertEqual((files["/usr/bin/tool"]["mode"], files["/etc/gauge.conf"]["mode"]), ("0755", "0644"))
        self.assertEqual(files["/etc/keys/door"]["mode"], "0640")
        self.assertEqual(files["/etc/keys"]["mode"], "0750")
        self.assertEqual((files["/etc/keys/door"]["uid"], files["/etc/keys/door"]["gid"]), (100, 101))
        self.assertEqual((files["/etc/gauge"]["to"], files["/etc/door"]["to"]), ("gauge.conf", "keys/door"))
        self.assertEqual(files["/etc/gauge.conf"]["origin"], "s/images/over/etc/gauge.conf")
        self.assertEqual(files["/etc/door"]["origin"], "s/images/i.toml")
        self.assertEqual(files["/sbin/init"]["package"], "init")
        self.assertNotIn("origin", files["/sbin/init"])
        # A changed file changes the image, and nothing else is built.
        self.write("w/s/images/over/etc/raw.conf", "other\n")
        self.assertEqual([step for step in self.ran(self.yarrik_json("build", at=self.root)) if step.startswith("build")], [])
        self.assertEqual(self.content("/etc/raw.conf"), "other\n")

    def test_what_cannot_be_laid_over_is_told_with_its_line(self) -> None:
        self.write("w/s/images/over/etc/gauge.conf", "one\ntwo {{ values.prot }}\n")
        os.mkfifo(self.root / "s/images/over/pipe")
        self.image("""[[tree]]
from = "over"
rule = [{ files = "/etc/*.conf", template = true }, { files = "/ect/*", mode = "0600" }]
[[file]]
path = "/etc/x"
content = "a\\nb {{ nothing }}"
template = true
[[tree]]
from = "missing"
""")
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("TEMPLATE-UNFIT: the template cannot be filled in: there is no `prot`", said)
        self.assertIn("over/etc/gauge.conf:2", said)
        self.assertIn("(line 2 of `content`): there is no `nothing`", said)
        self.assertIn("TREE-KIND: pipe in over is neither a file nor a folder nor a link", said)
        self.assertIn("TREE-RULE: the rule for /ect/* fits nothing in over", said)
        self.assertIn("SOURCE-MISSING", said)

    def test_a_packaged_file_is_replaced_only_where_that_is_said(self) -> None:
        self.recipe("conf", "install -D -m 644 c.conf $DESTDIR/etc/c.conf", {"c.conf": "package\n"})
        self.write("w/s/images/over/etc/c.conf", "image\n")
        for text, word in (
            ('[[file]]\npath = "/etc/c.conf"\ncontent = "image\\n"\n', 'replaces = "conf"'),
            ('[[tree]]\nfrom = "over"\n', 'replaces = ["conf"]'),
            ('[[link]]\npath = "/etc/c.conf"\nto = "/tmp/x"\n', 'replaces = "conf"'),
        ):
            self.image(text, '"init", "conf"')
            said = self.yarrik("build", at=self.root, code=1)
            self.assertIn("FILE-REPLACED: /etc/c.conf is the image's own, and the package `conf` brings it too", said)
            self.image(f"{text}{word}\n", '"init", "conf"')
            self.assertIn("in place of the one of the package `conf`", self.yarrik("build", at=self.root))
            self.assertEqual(self.files()["/etc/c.conf"].get("package"), None)
        self.image('[[file]]\npath = "/etc/d.conf"\ncontent = ""\nreplaces = "conf"\n', '"init", "conf"')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("FILE-REPLACES-NOTHING: /etc/d.conf is to replace a file of the package `conf`", said)

    def test_names_and_places(self) -> None:
        self.image("""
hostname = "gull"
time-zone = "Pacific/Auckland"
locale = "C.UTF-8"
message-of-the-day = "Gull Rock pier\\n"
hosts = { "192.0.2.7" = ["office", "office.harbour.example"] }
environment = { TIDE = "high \\"and\\" $low `now` \\\\ 'so'" }
sysctl = { "net.ipv4.ip_forward" = "1", "kernel/panic" = "10" }
[release]
name = "Harbour \\"Linux\\""
id = "harbour"
version = "2026.11"
more = { VARIANT = "Pier $1" }
""")
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/hosts").splitlines()[1:], [
            "127.0.1.1 gull", "::1 localhost ip6-localhost", "192.0.2.7 office office.harbour.example"])  # fmt: skip
        self.assertEqual(self.content("/etc/motd"), "Gull Rock pier\n")
        self.assertEqual(self.content("/etc/timezone"), "Pacific/Auckland\n")
        self.assertEqual(self.content("/etc/sysctl.d/50-image.conf"), "kernel.panic = 10\nnet.ipv4.ip_forward = 1\n")
        self.assertEqual(self.content("/etc/machine-id"), "")
        self.assertEqual(self.files()["/etc/localtime"]["sha256"],
                         self.tool("sha256sum", "/usr/share/zoneinfo/Pacific/Auckland").split()[0])  # fmt: skip
        # A shell and another reader of the standard understand them.
        release = self.write("os-release", self.content("/usr/lib/os-release"))
        told = subprocess.run(["sh", "-c", f'. {release}; printf "%s|%s|%s|%s" "$NAME" "$PRETTY_NAME" "$VARIANT" "$IMAGE_ID"'],
                              capture_output=True, text=True, check=True).stdout  # fmt: skip
        self.assertEqual(told, 'Harbour "Linux"|Harbour "Linux" 2026.11|Pier $1|p')
        self.assertEqual(self.files()["/etc/os-release"]["to"], "../usr/lib/os-release")
        script = self.write("environment.sh", self.content("/etc/profile.d/environment.sh"))
        told = subprocess.run(["sh", "-c", f'. {script}; printf "%s|%s" "$TIDE" "$LANG"'],
                              capture_output=True, text=True, check=True).stdout  # fmt: skip
        self.assertEqual(told, "high \"and\" $low `now` \\ 'so'|C.UTF-8")
        for key, text in (("time-zone", "Pacific/Aukland"), ("time-zone", "../../etc/passwd"), ("locale", "C UTF"),
                          ("hosts", '{ "192.0.2.300" = ["x"] }'), ("sysctl", '{ "../x" = "1" }'),
                          ("environment", '{ "A B" = "1" }'), ("release", '{ id = "Harbour Linux" }')):  # fmt: skip
            value = text if text.startswith("{") else f'"{text}"'
            self.image(f"{key} = {value}\n")
            said = self.yarrik("check", at=self.root, code=2)
            self.assertIn("s/images/i.toml:2", said, text)
        self.image('time-zone = "Pacific/Aukland"\n')
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("ZONE-UNKNOWN", said)
        self.assertIn("did you mean `Pacific/Auckland`?", said)
        self.image('[[file]]\npath = "/etc/passwd"\ncontent = ""\n')
        self.assertIn("IMAGE-GENERATED: /etc/passwd is written from", self.yarrik("check", at=self.root, code=2))

    def test_zone_data_of_the_image_is_linked_to(self) -> None:
        self.recipe("zones", "install -D -m 644 z $DESTDIR/usr/share/zoneinfo/Pacific/Auckland", {"z": "TZif2"})
        self.image('time-zone = "Pacific/Auckland"\n', '"init", "zones"')
        self.yarrik("build", at=self.root)
        self.assertEqual(self.files()["/etc/localtime"]["to"], "../usr/share/zoneinfo/Pacific/Auckland")
        # A file of the image's own is taken as it is, with a zone or without.
        own = '[[file]]\npath = "/etc/localtime"\ncontent = "mine"\n'
        for zone in ('time-zone = "Pacific/Auckland"\n', ""):
            self.image(zone + own, '"init", "zones"')
            self.yarrik("build", at=self.root)
            self.assertEqual(self.content("/etc/localtime"), "mine")

    def test_what_is_usual_gives_way_to_a_package_and_what_is_asked_for_does_not(self) -> None:
        self.recipe("net", "install -D -m 644 h $DESTDIR/etc/hosts", {"h": "127.0.0.1 mine\n"})
        self.image("", '"init", "net"')
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/hosts"), "127.0.0.1 mine\n")
        self.image('hosts = { "192.0.2.7" = ["office"] }\n', '"init", "net"')
        self.assertIn("FILE-REPLACED", self.yarrik("build", at=self.root, code=1))

    def test_capabilities_and_attributes_reach_the_image(self) -> None:
        self.recipe(
            "ping", "install -D -m 755 p $DESTDIR/bin/ping && ln -s ping $DESTDIR/bin/ping6", {"p": "#!/bin/sh\n"},
            package='[package.ping]\nattributes = [{ path = "/bin/ping", capabilities = "cap_net_raw=ep", '
            'extended = { "user.origin" = "pier" } }]\n',
        )  # fmt: skip
        self.image("", '"init", "ping"')
        for form in ("ext4", "squashfs"):
            board = self.root / "s/boards/b.toml"
            board.write_text(board.read_text().split("filesystem")[0].rstrip() + f'\nfilesystem = "{form}"\n')
            self.yarrik("build", at=self.root)
            shown = self.yarrik("inspect", "out/p/p.img", "/bin/ping", at=self.root)
            self.assertRegex(shown, rf"{ATTRIBUTE} +cap_net_raw=ep\n")
            self.assertRegex(shown, r"user.origin +pier\n")
        self.assertEqual(self.files()["/bin/ping"]["attributes"][ATTRIBUTE], encode_capabilities("cap_net_raw=ep").hex())
        # The kernel takes the same attribute on a file of its own.
        file = self.write("ping", "")
        os.setxattr(file, ATTRIBUTE, bytes.fromhex(self.files()["/bin/ping"]["attributes"][ATTRIBUTE]))
        self.assertIn("cap_net_raw=ep", self.tool("getcap", file))
        text = (self.root / "s/recipes/ping/recipe.toml").read_text()
        (self.root / "s/recipes/ping/recipe.toml").write_text(text.replace('"/bin/ping"', '"/bin/ping6"'))
        self.assertIn("PACKAGE-ATTRIBUTES", self.yarrik("build", at=self.root, code=1))
        (self.root / "s/recipes/ping/recipe.toml").write_text(text.replace("cap_net_raw", "cap_net_rwa"))
        self.assertIn("did you mean `cap_net_raw`?", self.yarrik("check", at=self.root, code=2))


class TheLoadersCacheIsThatOfLdconfig(FolderTest):
    def library(self, path: str, soname: str = "") -> None:
        name = [f"-Wl,-soname,{soname}"] if soname else []
        source = self.write("one.c", f'const char *where(void) {{ return "{path}"; }}\n')
        (self.folder / "root" / path).parent.mkdir(parents=True, exist_ok=True)
        self.tool("gcc", "-shared", "-fPIC", "-Wl,--build-id=none", *name, "-o", self.folder / "root" / path, source)

    def test_the_same_entries_in_the_same_order_and_the_loader_goes_by_them(self) -> None:
        root = self.folder / "root"
        for path, soname in (
            ("usr/lib/libgull.so.1.2.10", "libgull.so.1"), ("usr/lib/libgull.so.1.2.9", "libgull.so.1"), ("lib/libplain.so", ""),
            ("opt/x/libx10.so.2", "libx10.so.2"), ("opt/x/libx9.so.2", "libx9.so.2"), ("opt/x/libgull.so.1.9", "libgull.so.1"),
            ("opt/y/deep/libdeep.so.3.1", "libdeep.so.3"), ("lib/libodd-1.so", "libodd-1.so"), ("usr/lib/other.so", "other.so"),
        ):  # fmt: skip
            self.library(path, soname)
        (root / "usr/lib/libgull.so").symlink_to("libgull.so.1")
        (root / "usr/lib/libgull.so.1").symlink_to("libgull.so.1.2.10")
        self.write("root/lib/libtext.so", "GROUP ( libgull.so.1 )\n")
        self.write("root/lib/libbroken.so", b"\x7fELF" + bytes(60))
        self.write("root/etc/ld.so.conf", "# ours\ninclude /etc/ld.so.conf.d/*.conf\n/usr/lib  # again\n")
        self.write("root/etc/ld.so.conf.d/x.conf", "/opt/x\n/opt/y/deep   \n/opt/gone\n")
        loader = Path(
            subprocess.run(["gcc", "-print-file-name=libc.so.6"], capture_output=True, text=True, check=True).stdout.strip()
        )
        for file in (loader.resolve(), Path("/lib64/ld-linux-x86-64.so.2").resolve()):
            shutil.copy(file, root / "lib" / file.name)
        data, links = library_cache(read_folder(root), Path)
        self.assertEqual({link.path: link.content for link in links},
                         {"/opt/x/libgull.so.1": "libgull.so.1.9", "/opt/y/deep/libdeep.so.3": "libdeep.so.3.1"})  # fmt: skip
        (root / "etc/ld.so.cache").write_bytes(data)
        listed = self.tool("ldconfig", "-p", "-C", root / "etc/ld.so.cache")
        # Theirs makes the links too, so ours are checked against what it left.
        self.tool("ldconfig", "-r", root, "-C", "/theirs")
        self.assertEqual({path.name: os.readlink(path) for path in (root / "opt").rglob("*") if path.is_symlink()},
                         {"libgull.so.1": "libgull.so.1.9", "libdeep.so.3": "libdeep.so.3.1"})  # fmt: skip
        theirs = self.tool("ldconfig", "-p", "-C", root / "theirs")
        entries = [line for line in theirs.splitlines() if "=>" in line]
        self.assertGreater(len(entries), 8)
        self.assertEqual([line for line in listed.splitlines() if "=>" in line], entries)
        # The loader itself finds by it what it would find nowhere else.
        program = self.write(
            "main.c", "#include <stdio.h>\nconst char *where(void); int main(void) { puts(where()); return 0; }\n"
        )
        self.tool("gcc", "-o", root / "main", program, root / "opt/y/deep/libdeep.so.3.1")
        run = ["unshare", *([] if os.getuid() == 0 else ["--map-root-user"]), "--root", str(root),
               "/lib/" + Path("/lib64/ld-linux-x86-64.so.2").resolve().name, "/main"]  # fmt: skip
        self.assertEqual(self.tool(*run).strip(), "opt/y/deep/libdeep.so.3.1")
        (root / "etc/ld.so.cache").unlink()
        self.assertIn("cannot open shared object file", self.tool(*run, ok=(127,)))

    def test_names_are_ordered_as_the_loader_looks_them_up(self) -> None:
        names = ["libx10.so.2", "libx9.so.2", "libX.so", "lib1.so", "liba.so.10", "liba.so.9", "lib-a.so"]
        self.assertEqual(sorted(names, key=_order),
                         ["lib-a.so", "libX.so", "liba.so.9", "liba.so.10", "libx9.so.2", "libx10.so.2", "lib1.so"])  # fmt: skip

    def test_without_the_loader_there_is_none(self) -> None:
        self.library("lib/libplain.so")
        self.assertEqual(library_cache(read_folder(self.folder / "root"), Path), (b"", []))


class WhatElfFilesSay(FolderTest):
    def made(self, source: str, *flags: str, name: str = "x") -> Path:
        place = self.folder / name
        self.tool("gcc", "-o", place, "-x", "c", self.write("x.c", source), *flags)
        return place

    def test_versions_and_protections_as_another_reader_has_them(self) -> None:
        from elftools.elf.elffile import ELFFile
        from elftools.elf.gnuversions import GNUVerDefSection, GNUVerNeedSection

        files = sorted({path.resolve() for path in Path("/usr/lib/x86_64-linux-gnu").glob("lib*.so.*")})[:150]
        files += [Path("/usr/bin") / name for name in ("tar", "gcc", "openssl", "mount")]
        seen = 0
        for path in files:
            facts = read_elf(path)
            assert facts is not None
            with path.open("rb") as file:
                elf = ELFFile(file)
                needs, offers = set(), set()
                for section in elf.iter_sections():
                    if isinstance(section, GNUVerNeedSection):
                        needs = {(one.name, aux.name) for one, auxiliary in section.iter_versions() for aux in auxiliary
                                 if not aux["vna_flags"] & 2}  # fmt: skip
                    elif isinstance(section, GNUVerDefSection):
                        offers = {next(auxiliary).name for one, auxiliary in section.iter_versions() if not one["vd_flags"] & 1}
                types = [segment["p_type"] for segment in elf.iter_segments()]
                self.assertEqual((set(facts.versions), set(facts.offers)), (needs, offers), path)
                self.assertEqual("relro" in facts.lacks, "PT_GNU_RELRO" not in types, path)
                seen += bool(needs) + bool(offers)
        self.assertGreater(seen, 100)

    def test_protections_that_are_missing(self) -> None:
        main = "int main(void) { return 0; }"
        for flags, lacks in (
            (("-pie", "-fPIE", "-Wl,-z,relro,-z,now", "-s"), ()),
            (("-no-pie", "-Wl,-z,relro,-z,now", "-s"), ("pie",)),
            (("-pie", "-fPIE", "-Wl,-z,norelro,-z,now", "-s"), ("relro",)),
            (("-pie", "-fPIE", "-Wl,-z,relro,-z,lazy", "-s"), ("bind-now",)),
            (("-pie", "-fPIE", "-Wl,-z,relro,-z,now,-z,execstack", "-s"), ("no-executable-stack",)),
            (("-pie", "-fPIE", "-Wl,-z,relro,-z,now", "-g"), ("stripped",)),
            (("-static", "-s"), ("pie",)),
        ):
            facts = read_elf(self.made(main, *flags))
            assert facts is not None
            self.assertEqual(facts.lacks, lacks, flags)

    def test_a_library_that_is_too_old_is_named(self) -> None:
        newer, older = (self.folder / name for name in ("newer", "older"))
        for folder, nodes in ((newer, "GULL_1 { one; }; GULL_2 { two; } GULL_1;"), (older, "GULL_1 { one; two; };")):
            folder.mkdir()
            script = self.write("map", nodes)
            self.made("int one(void) { return 1; } int two(void) { return 2; }", "-shared", "-fPIC", f"-Wl,--version-script={script}",
                      "-Wl,-soname,libgull.so.1", name=f"{folder.name}/libgull.so")  # fmt: skip
        main = self.made("int two(void); int main(void) { return two(); }", f"-L{newer}", "-lgull", name="main")
        program, old, new = read_elf(main), read_elf(older / "libgull.so"), read_elf(newer / "libgull.so")
        assert program is not None and old is not None and new is not None
        self.assertIn(("libgull.so.1", "GULL_2"), program.versions)
        tool = BuiltPackage("tool", "tools", "1", "MIT", "", (), (), {"/bin/main": program})
        for library, fine in ((old, False), (new, True)):
            packages = [tool, BuiltPackage("gull", "gull", "1", "MIT", "", (), (), {"/lib/libgull.so.1": library})]
            if fine:
                check_symbol_versions(packages)
                continue
            with self.assertRaises(YarrikError) as caught:
                check_symbol_versions(packages)
            [trouble] = caught.exception.troubles
            self.assertEqual(trouble.code, "SYMBOL-VERSION")
            self.assertIn(
                "/bin/main of the package `tool` needs GULL_2 of libgull.so.1, and /lib/libgull.so.1 of the package `gull`",
                trouble.what,
            )
            self.assertIn("the newest that it has is GULL_1", trouble.why)
        # The loader says the same.
        (older / "libgull.so.1").symlink_to("libgull.so")
        done = subprocess.run([main], env={"LD_LIBRARY_PATH": str(older)}, capture_output=True, text=True, check=False)
        self.assertIn("version `GULL_2' not found", done.stderr)
        check_symbol_versions([tool])  # a library that is not there at all is told by others

    def test_licences_that_a_profile_refuses(self) -> None:
        def told(licence: str) -> str:
            try:
                check_licences([BuiltPackage("p", "r", "1", licence, "", (), (), {})], ("GPL-3.0-*", "AGPL-*"))
            except YarrikError as error:
                return error.troubles[0].why
            return ""

        for licence in (
            "GPL-3.0-only",
            "MIT AND GPL-3.0-or-later",
            "AGPL-3.0-only OR GPL-3.0-only",
            "(GPL-3.0-or-later WITH GCC-exception-3.1)",
        ):
            self.assertIn("the profile refuses", told(licence), licence)
        for licence in ("MIT", "GPL-2.0-only", "MIT OR GPL-3.0-only", "LGPL-3.0-only"):
            self.assertEqual(told(licence), "", licence)


class AdviceIsGiven(WorkspaceTest):
    def test_each_with_file_package_and_code(self) -> None:
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nexpects = ["bind-now"]\nc-flags = ["-O1"]\n')
        self.recipe("odd", "mkdir -p $DESTDIR/bin $DESTDIR/open; echo x > $DESTDIR/bin/su; chmod 4755 $DESTDIR/bin/su; chmod 777 $DESTDIR/open;"
                    " $CC -Wl,-z,lazy,-z,execstack -o $DESTDIR/bin/run run.c", {"run.c": "int main(void) { return 0; }\n"})  # fmt: skip
        (self.root / "s/images/i.toml").write_text('packages = ["init", "odd"]\n')
        said = self.yarrik("build", at=self.root)
        for words in (
            ("run with the rights of their owner or group for every user: /bin/su (odd)"),
            ("can be changed by everybody: /open (odd)"),
            ("without `no-executable-stack`, so what is written to the stack can be run: /bin/run (odd)"),
            ("without `bind-now`, so addresses of functions are looked up late"),
        ):
            self.assertIn(words, said)
        (self.root / "products/p.toml").write_text(
            'board = "b"\nprofile = "p"\nimage = "i"\n[silence]\nFILE-SETUID = "su is meant"\nELF-STACK = "a test"\n'
        )
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nexpects = ["relro"]\nc-flags = ["-O1"]\n')
        said = self.yarrik("build", at=self.root)
        self.assertNotIn("/bin/su", said)
        self.assertNotIn("no-executable-stack", said)
        product = self.root / "products/p.toml"
        product.write_text(product.read_text() + 'FILE-WRITABLE = "a test"\nELF-HARDENING = "a test"\n')
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nexpects = ["bind-now"]\nc-flags = ["-O1"]\n')
        said = self.yarrik("build", at=self.root)
        self.assertIn("4 warnings silenced", said)
        self.assertNotIn("everybody", said)
        product.write_text(product.read_text().partition("[silence]")[0])
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nc-flags = ["-O1"]\n')
        said = self.yarrik("build", at=self.root)
        self.assertIn("can be changed by everybody", said)
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nrefuse-licences = ["M*"]\n')
        self.assertIn("LICENCE-REFUSED", self.yarrik("build", at=self.root, code=1))


class AnImageHasAMountTable(WorkspaceTest):
    def board(self, disk: str, more: str = "") -> None:
        (self.root / "s/boards/b.toml").write_text(f"""
arch = "host"
[kernel]
recipe = "kernel"
{more}
[[disk]]
name = "card"
{disk}
[[disk.partition]]
name = "root"
holds = "root"
filesystem = "squashfs"
[[disk.partition]]
name = "data"
filesystem = "ext4"
size = "8 MiB"
mount = "/data"
mount-options = ["noatime"]
[[disk.partition]]
name = "spare"
filesystem = "swap"
size = "1 MiB"
""")

    def image(self, more: str) -> None:
        (self.root / "s/images/i.toml").write_text(f'packages = ["init"]\n{more}')

    def test_it_names_the_partitions_that_the_table_has(self) -> None:
        places = 'writable = [{ path = "/var/lib/tide", by = "bind", on = "/data" }, { path = "/etc", by = "overlay", on = "/data/x" }, '
        places += '{ path = "/var/a log", by = "memory", size = "1 MiB" }]\n'
        folders = 'start-folder = [{ path = "/run/tide", owner = "tide", mode = "0750" }]\n[[user]]\nname = "tide"\n'
        self.board('table = "gpt"')
        self.image(places + folders)
        self.yarrik("build", at=self.root)
        lines = [line.split() for line in self.content("/etc/fstab").splitlines()]
        told = {number: re.search(r"unique GUID: (\S+)", self.tool("sgdisk", "-i", str(number), self.root / "out/p/p.img"))[1].lower()
                for number in (1, 2, 3)}  # fmt: skip
        self.assertEqual(lines[:3], [
            [f"PARTUUID={told[1]}", "/", "squashfs", "ro", "0", "0"], [f"PARTUUID={told[3]}", "none", "swap", "sw", "0", "0"],
            [f"PARTUUID={told[2]}", "/data", "ext4", "rw,noatime", "0", "2"]])  # fmt: skip
        self.assertEqual(
            lines[3][:4], ["/data/places/var-lib-tide", "/var/lib/tide", "none", "bind,x-systemd.requires-mounts-for=/data"]
        )
        self.assertIn("lowerdir=/etc,upperdir=/data/x/places/etc,workdir=/data/x/places/.etc", lines[4][3])
        self.assertEqual(lines[5][1:4], ["/var/a\\040log", "tmpfs", "rw,nosuid,nodev,mode=755,size=1048576"])
        self.assertEqual(self.content("/etc/folders"), "/run/tide 0750 100 100\n")
        # Another reader of fstab(5) understands each line.
        shown = self.tool(
            "findmnt",
            "--fstab",
            "--tab-file",
            self.write("fstab", self.content("/etc/fstab")),
            "-r",
            "-n",
            "-o",
            "TARGET,FSTYPE",
        )
        self.assertEqual(len(shown.splitlines()), 6)
        self.board('table = "mbr"')
        self.yarrik("build", at=self.root)
        signature = self.tool("sfdisk", "--disk-id", self.root / "out/p/p.img").strip().removeprefix("0x")
        self.assertIn(f"PARTUUID={signature}-02 /data ext4", self.content("/etc/fstab"))
        # Of a root filesystem with copies nobody knows beforehand which one is started.
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace('holds = "root"', 'holds = "root"\ncopies = ["root-b"]'))
        self.yarrik("build", at=self.root)
        taken = ("--partition", "root-b", "--extract", "/etc/fstab", "--to", self.folder / "b")
        self.yarrik("inspect", "out/p/p.img", *taken, at=self.root)
        table = (self.folder / "b/fstab").read_text()
        self.assertNotIn(" / ", table)
        self.assertIn(f"PARTUUID={signature}-03 /data ext4", table)

    def test_folders_of_each_start_in_the_form_of_the_manager(self) -> None:
        self.board('table = "gpt"')
        self.image('start-folder = [{ path = "/run/tide", owner = "tide" }]\n[[user]]\nname = "tide"\n')
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nservice-form = "units"\n')
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/usr/lib/tmpfiles.d/image.conf"), "d /run/tide 0755 tide tide -\n")
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nservice-form = "scripts"\n')
        self.assertIn("SERVICE-FORM: folders of each start do not fit", self.yarrik("check", at=self.root, code=2))
        self.image('start-folder = [{ path = "/run/tide", owner = "tied" }]\n')
        (self.root / "s/profiles/p.toml").write_text('init = "init"\n')
        self.assertIn("ACCOUNT-MISSING: /run/tide belongs to `tied`", self.yarrik("check", at=self.root, code=2))

    def test_places_that_could_not_keep_anything(self) -> None:
        self.board('table = "gpt"')
        for more, words in (
            ('writable = [{ path = "/var/x", by = "bind", on = "/date" }]', "/var/x cannot be kept at /date"),
            ('writable = [{ path = "/var/x", by = "overlay" }]', "/var/x cannot be kept without `on`"),
            (
                'writable = [{ path = "/var/x", by = "memory", on = "/data" }]',
                "/var/x is writable in memory, and `on` names a place",
            ),
        ):
            self.image(more)
            said = self.yarrik("check", at=self.root, code=2)
            self.assertIn(f"MOUNT-PLACE: {words}", said)
            self.assertIn("s/images/i.toml:2", said)
        self.image("")
        board = self.root / "s/boards/b.toml"
        text = board.read_text()
        board.write_text(text.replace('filesystem = "ext4"', 'filesystem = "squashfs"'))
        self.image('writable = [{ path = "/var/x", by = "bind", on = "/data" }]')
        self.assertIn("what is mounted there is read-only", self.yarrik("check", at=self.root, code=2))
        self.image("")
        board.write_text(text.replace('holds = "root"', 'holds = "root"\nmount = "/old"'))
        self.assertIn("holds the root filesystem, and is mounted at /old too", self.yarrik("check", at=self.root, code=2))
        board.write_text(text + '[[disk.partition]]\nname = "more"\nsize = "1 MiB"\nmount = "/data"\n')
        self.assertIn("two partitions are mounted at /data", self.yarrik("check", at=self.root, code=2))


if __name__ == "__main__":
    unittest.main()
