"""The root filesystem's tree: packages, accounts, the image's own files."""

import os
import unittest
from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from yarrik.errors import YarrikError
from yarrik.model import Definition, Document, Image, Root, User
from yarrik.resolve import BuiltPackage, PackagedPath, settle_accounts
from yarrik.rootfs import Node, OwnPath, RootTree, quoted, unquoted
from yarrik.rootfs.assemble import assemble_root


def package(name: str, *paths: PackagedPath) -> BuiltPackage:
    return BuiltPackage(name, name, "1", "MIT", "", (), paths, {})


#: What `openssl passwd -6` made of "gull".
HASH = "$6$pierpier$jZ4Nc3sK3gVUYDnO2tDdJbO0kzb1mGgCRdQvZ0cO0uC1bqUq9p2oUoB1S5l9wqkVb2hYJmZxM3mS1mWk7h0a1."
#: A package with a shell, which somebody who logs in needs.
SHELL = package("shell", PackagedPath("/bin/sh", "file", 0o755, 1, "5" * 64))


HOST = OwnPath(path="/etc/hostname", kind="file", mode=0o644, content="kittiwake\n")


class RootsAreAssembled(unittest.TestCase):
    def setUp(self) -> None:
        self.contents: dict[str, bytes] = {}

    def put(self, data: bytes) -> str:
        digest = f"digest-{len(self.contents)}"
        self.contents[digest] = data
        return digest

    def root(
        self,
        image: Image,
        *packages: BuiltPackage,
        own: Sequence[OwnPath] = (),
        notes: list[str] | None = None,
        merged_usr: bool = False,
    ) -> RootTree:
        accounts = settle_accounts(Definition("i", "", image, Document(Path("i.toml"), {}))).accounts
        passwords = {one.name: one.password for one in accounts.users}
        there = {package.name for package in packages}
        return assemble_root([HOST, *own], accounts.among(there), passwords, packages, {}, self.put, notes, merged_usr)

    def text(self, root: RootTree, path: str) -> str:
        return self.contents[root.by_path[path].content].decode()

    def codes(self, image: Image, *packages: BuiltPackage) -> list[str]:
        with self.assertRaises(YarrikError) as caught:
            self.root(image, *packages)
        return [trouble.code for trouble in caught.exception.troubles]

    def test_host_name_accounts_and_nodes_are_there(self) -> None:
        root = self.root(Image(packages=(), user=(User(name="tide", id=100, home="/var/lib/tide"),)))
        self.assertEqual(self.text(root, "/etc/hostname"), "kittiwake\n")
        self.assertEqual(
            self.text(root, "/etc/passwd"), "root:x:0:0:root:/root:/bin/sh\ntide:x:100:100:tide:/var/lib/tide:/bin/false\n"
        )
        self.assertEqual(root.by_path["/etc/shadow"].mode, 0o600)
        self.assertEqual((root.by_path["/var/lib/tide"].uid, root.by_path["/var/lib/tide"].mode), (100, 0o750))
        self.assertEqual(root.by_path["/dev/console"].device, (5, 1))
        self.assertEqual(root.by_path["/tmp"].mode, 0o1777)

    def test_root_is_locked_unless_the_image_says_otherwise(self) -> None:
        for login, secret in (("locked", "!"), ("open", ""), ("password", HASH)):
            root = self.root(
                Image(packages=(), root=Root(login=login, password_hash=secret if login == "password" else "")), SHELL
            )
            line = self.text(root, "/etc/shadow").splitlines()[0]
            self.assertEqual(line, f"root:{secret}:::::::")
            self.assertEqual(line.count(":"), 8)
        self.assertEqual(self.codes(Image(packages=(), root=Root(login="password", password_hash="plain"))), ["ROOT-PASSWORD"])

    def test_owners_are_looked_up_and_unknown_ones_told(self) -> None:
        owned = package("p", PackagedPath("/var/x", "folder", 0o700, 0, "", "tide"))
        root = self.root(Image(packages=(), user=(User(name="tide", id=100),)), owned)
        self.assertEqual((root.by_path["/var/x"].uid, root.by_path["/var/x"].package), (100, "p"))
        self.assertEqual(self.codes(Image(packages=()), owned), ["ACCOUNT-MISSING"])

    def test_two_packages_with_the_same_path_clash_unless_they_agree(self) -> None:
        one = package("one", PackagedPath("/bin/x", "file", 0o755, 1, "a" * 64))
        same = package("two", PackagedPath("/bin/x", "file", 0o755, 1, "a" * 64))
        other = package("two", PackagedPath("/bin/x", "file", 0o755, 1, "b" * 64))
        self.assertIn("/bin/x", self.root(Image(packages=()), one, same).by_path)
        self.assertEqual(self.codes(Image(packages=()), one, other), ["PATH-CLASH"])
        hosts = package("hosts", PackagedPath("/etc/hostname", "file", 0o644, 1, "c" * 64))
        self.assertEqual(self.codes(Image(packages=()), hosts), ["FILE-REPLACED"])

    def test_the_image_s_own_files_go_before_those_of_packages(self) -> None:
        conf = package("p", PackagedPath("/etc/p.conf", "file", 0o644, 1, "a" * 64))
        mine = OwnPath(path="/etc/p.conf", kind="file", content="mine\n", mode=0o600, replaces=("p",), origin="images/i.toml")
        own = (
            mine,
            OwnPath(path="/data", kind="folder", mode=0o700),
            OwnPath(path="/dev/gauge", kind="character", mode=0o600, device=(250, 3)),
        )
        root = self.root(Image(packages=()), conf, own=own)
        self.assertEqual((self.text(root, "/etc/p.conf"), root.by_path["/etc/p.conf"].mode), ("mine\n", 0o600))
        self.assertEqual(root.by_path["/etc/p.conf"].origin, "images/i.toml")
        self.assertEqual(root.by_path["/dev/gauge"].device, (250, 3))
        for changed, code in (
            (replace(mine, replaces=()), "FILE-REPLACED"),
            (replace(mine, replaces=("other",)), "FILE-REPLACED"),
            (replace(mine, path="/etc/q.conf", surely=True), "FILE-REPLACES-NOTHING"),
        ):
            with self.assertRaises(YarrikError) as caught:
                self.root(Image(packages=()), conf, own=(changed,))
            self.assertEqual([trouble.code for trouble in caught.exception.troubles], [code])
        gives_way = self.root(Image(packages=()), conf, own=(replace(mine, replaces=(), usual=True),))
        self.assertEqual(gives_way.by_path["/etc/p.conf"].package, "p")
        later = self.root(Image(packages=()), conf, own=(mine, replace(mine, content="later", replaces=())))
        self.assertEqual(self.text(later, "/etc/p.conf"), "later")

    def test_attributes_and_origins_survive_the_cache(self) -> None:
        nodes = [Node("/a", "file", 0o755, content="x", attributes=(("security.capability", b"\0\xff"),)),
                 Node("/b", "file", 0o644, content="y", origin="images/i.toml"), Node("/c", "folder", 0o755)]  # fmt: skip
        tree = RootTree.of(nodes)
        self.assertEqual(RootTree.decode(tree.encode()), tree)

    def test_accounts_that_cannot_be_are_told_together(self) -> None:
        users = (User(name="a", id=5), User(name="b", id=5), User(name="c", id=0), User(name="d", id=7, home="/x:y"))
        self.assertEqual(self.codes(Image(packages=(), user=users)), ["ACCOUNT-TWICE", "ACCOUNT-ID", "ACCOUNT-FORM"])

    def test_a_merged_usr_by_the_profile_s_word_or_by_a_package_s_link(self) -> None:
        def file(path: str, content: str = "a") -> PackagedPath:
            return PackagedPath(path, "file", 0o755, 1, content * 64)

        libc, tools = (
            package("libc", file("/lib/libc.so")),
            package("tools", file("/usr/bin/x"), file("/bin/y"), file("/usr/lib/z")),
        )
        own = [OwnPath(path="/lib/mine", kind="file", content="x", mode=0o644)]
        root = self.root(Image(packages=()), libc, tools, own=own, merged_usr=True)
        wanted = {"/usr/lib/libc.so", "/usr/lib/z", "/usr/lib/mine", "/usr/bin/x", "/usr/bin/y", "/lib", "/bin", "/sbin"}
        self.assertLessEqual(wanted, root.by_path.keys())
        self.assertEqual(
            {root.by_path[f"/{one}"].content for one in ("lib", "bin", "sbin")}, {"usr/lib", "usr/bin", "usr/sbin"}
        )
        self.assertEqual(root.follow("/lib/libc.so").path, "/usr/lib/libc.so")
        notes: list[str] = []
        base = package("base", PackagedPath("/lib", "link", 0o777, 7, "usr/lib"))
        root = self.root(Image(packages=()), base, libc, tools, notes=notes)
        self.assertEqual(("/usr/lib/libc.so" in root.by_path, "/bin/y" in root.by_path), (True, True))
        self.assertEqual(notes, ["/lib is a link to usr/lib: what `libc` brings there is placed in /usr/lib"])
        same = package("same", PackagedPath("/bin/x", "link", 0o777, 10, "/usr/bin/x"))
        root = self.root(Image(packages=()), tools, same, merged_usr=True)
        self.assertEqual(root.by_path["/usr/bin/x"].kind, "file")
        other = package("other", file("/bin/x", "b"))
        with self.assertRaises(YarrikError) as caught:
            self.root(Image(packages=()), tools, other, merged_usr=True)
        self.assertIn("bring /usr/bin/x, with different content", caught.exception.troubles[0].what)

    def test_nothing_may_lie_below_a_link(self) -> None:
        two = package(
            "p", PackagedPath("/lib64", "link", 0o777, 3, "lib"), PackagedPath("/lib64/x", "file", 0o644, 1, "a" * 64)
        )
        self.assertEqual(self.codes(Image(packages=()), two), ["PATH-BELOW-FILE"])


class TreesFollowLinks(unittest.TestCase):
    tree = RootTree.of(
        [
            Node("/sbin", "link", 0o777, content="usr/sbin"),
            Node("/usr/sbin/init", "link", 0o777, content="../../bin/real"),
            Node("/bin/real", "file", 0o755),
            Node("/loop", "link", 0o777, content="/loop"),
            Node("/out", "link", 0o777, content="../../../bin/real"),
        ]
    )

    def test_as_the_running_board_would(self) -> None:
        self.assertEqual(self.tree.follow("/sbin/init").path, "/bin/real")
        self.assertEqual(self.tree.follow("/out").path, "/bin/real")
        self.assertIsNone(self.tree.follow("/loop"))
        self.assertIsNone(self.tree.follow("/none"))

    def test_trees_survive_being_stored_with_names_of_any_bytes(self) -> None:
        odd = os.fsdecode(b"/a%41\n\xff\xc3\xa4")
        tree = RootTree.of([Node(odd, "link", 0o777, content=odd)])
        self.assertEqual(RootTree.decode(tree.encode()), tree)
        self.assertEqual(quoted(odd), "/a%2541%0A%FFä")
        self.assertEqual(unquoted(quoted(odd)), odd)


if __name__ == "__main__":
    unittest.main()
