"""Network interfaces: what cannot be, and the forms that set them up, each judged by the programs that read it."""

import json
import os
import shutil
import subprocess
import unittest
from pathlib import Path

from msgspec.structs import replace

from tests.support import FolderTest, WorkspaceTest, starter_programs
from yarrik.errors import Collector, Place, Unfit
from yarrik.model import Interface
from yarrik.model.definitions import Wireless
from yarrik.model.rules import check_address_with_bits, check_country, check_interface, check_ssid
from yarrik.network import NETWORK_FORMS, NetworkForm, check_network, in_order, resolver_lines, wireless_file
from yarrik.network.wireless import wireless_key
from yarrik.plan import choices
from yarrik.rootfs import OwnPath

WIRED = Interface(name="eth0", addresses=("192.0.2.7/24", "2001:db8::7/64"), gateways=("192.0.2.1", "2001:db8::1"),
                  name_servers=("192.0.2.1",), search=("harbour.example",), mtu=1400)  # fmt: skip
VLAN = Interface(name="eth0.7", kind="vlan", of="eth0", number=7, addresses=("198.51.100.7/24",))
BRIDGE = Interface(name="br0", kind="bridge", ports=("eth1", "eth2"), addresses=("203.0.113.7/24",))
ALL = (WIRED, VLAN, BRIDGE)
AUTOMATIC = Interface(name="eth0", automatic=("ipv4", "ipv6"), optional=True)


def told(*interfaces: Interface) -> list[str]:
    collector = Collector()
    check_network(interfaces, lambda index, key: Place(Path(f"/i.toml#{index}.{key}")), collector)
    return [f"{one.code} {one.place.file.name if one.place.file else ''} {one.what}" for one in collector.troubles]


def in_a_network(script: str) -> list[str]:
    """The words that run a script in a network, and a view of the filesystem, of its own."""
    return ["unshare", "--net", "--mount", *([] if os.getuid() == 0 else ["--map-root-user"]), "sh", "-e", "-c", script]


class WhatCannotBeIsTold(unittest.TestCase):
    def test_nothing_is_wrong_with_what_can(self) -> None:
        self.assertEqual(told(*ALL), [])
        self.assertEqual(told(AUTOMATIC), [])
        self.assertEqual(told(replace(WIRED, gateways=("fe80::1",))), [])
        self.assertEqual(told(Interface(name="eth0", addresses=("192.0.2.0/31",))), [])

    def test_kinds_and_their_keys(self) -> None:
        for changed, words in (
            (replace(VLAN, number=None), "`eth0.7` is a vlan without `number`"),
            (replace(VLAN, of=""), "`eth0.7` is a vlan without `of`"),
            (replace(BRIDGE, ports=()), "`br0` is a bridge without `ports`"),
            (replace(WIRED, number=7), "`eth0` is wired, and has `number`"),
            (replace(WIRED, kind="wireless"), "`eth0` is a wireless without `wireless`"),
            (replace(WIRED, wireless=Wireless(ssid="x")), "`eth0` is wired, and has `wireless`"),
            (replace(VLAN, of="eth0.7"), "`eth0.7` stands on itself"),
            (replace(VLAN, of="bond0"), "`eth0.7` is on `bond0`, which the image does not describe"),
        ):  # fmt: skip
            found = told(changed)
            self.assertEqual(len(found), 1, found)
            self.assertIn("NETWORK-UNFIT i.toml#0.", found[0])
            self.assertIn(words, found[0])

    def test_addresses_that_do_not_fit(self) -> None:
        for changed, words in (
            (replace(WIRED, gateways=("192.0.3.1",)), "has the gateway 192.0.3.1, which is in none of its networks"),
            (replace(WIRED, gateways=("192.0.2.7",)), "has its own address 192.0.2.7 as gateway"),
            (replace(WIRED, gateways=("192.0.2.1", "192.0.2.2")), "has two gateways of IPv4"),
            (replace(WIRED, addresses=("192.0.2.0/24",), gateways=()), "which is that of its whole network"),
            (replace(WIRED, addresses=("192.0.2.255/24",), gateways=()), "which is that of its whole network"),
            (replace(WIRED, addresses=("127.0.0.2/8",), gateways=()), "which no interface may have"),
            (replace(WIRED, addresses=("224.0.0.5/24",), gateways=()), "which no interface may have"),
            (replace(WIRED, automatic=("ipv4",)), "has an address of IPv4, and asks for one"),
        ):  # fmt: skip
            self.assertIn(words, "\n".join(told(changed)))
        self.assertIn("`eth0` and `eth0.7` have the address 192.0.2.7", "\n".join(told(replace(VLAN, addresses=("192.0.2.7/24",)), WIRED))
                      .replace("`eth0.7` and `eth0`", "`eth0` and `eth0.7`"))  # fmt: skip
        self.assertIn(
            "is a port of `br0`, and has addresses of its own",
            "\n".join(told(BRIDGE, Interface(name="eth1", addresses=("192.0.2.9/24",)))),
        )
        self.assertIn(
            "`eth1` is a port of `br0` and of `br1`",
            "\n".join(told(BRIDGE, replace(BRIDGE, name="br1", addresses=(), ports=("eth1",)))),
        )

    def test_texts(self) -> None:
        for check, good, bad in (
            (check_interface, ("eth0", "enp3s0", "br-lan", "eth0.7"), ("", "..", "a/b", "a b", "x" * 16)),
            (check_address_with_bits, ("192.0.2.7/24", "2001:db8::7/64"), ("192.0.2.7", "192.0.2.7/33", "x/24", "192.0.2.300/24")),
            (check_ssid, ("harbour", "h" * 32, "Häfen"), ("", "h" * 33, "a\nb")),
            (check_country, ("NZ",), ("nz", "NZL", "")),
        ):  # fmt: skip
            for text in good:
                check(text)
            for text in bad:
                self.assertRaises(Unfit, check, text)

    def test_the_order(self) -> None:
        top = Interface(name="a.5", kind="vlan", of="br0", number=5)
        self.assertEqual([one.name for one in in_order([top, BRIDGE, VLAN, WIRED])], ["br0", "a.5", "eth0", "eth0.7"])
        self.assertEqual(resolver_lines([WIRED, AUTOMATIC]), ["search harbour.example", "nameserver 192.0.2.1"])
        self.assertEqual(resolver_lines([AUTOMATIC]), [])


class WirelessKeys(FolderTest):
    def test_as_their_own_program_makes_them(self) -> None:
        for ssid, secret in (("harbour", "gull rock at low tide"), ("Häfen 5", "x" * 63), ("h" * 32, "12345678")):
            said = self.tool("wpa_passphrase", ssid, secret)
            key = next(line.partition("psk=")[2] for line in said.splitlines() if line.strip().startswith("psk="))
            self.assertEqual(wireless_key(ssid, secret), key)
        self.assertEqual(wireless_key("x", "AB" * 32), "ab" * 32)
        for secret in ("short", "x" * 64, "mit Ümlaut hier", "tab\there.."):
            self.assertRaises(Unfit, wireless_key, "x", secret)

    def test_their_program_reads_the_file(self) -> None:
        one = Interface(name="wlan0", kind="wireless", wireless=Wireless(ssid='a "quoted" \\ name', secret="x", country="NZ"))
        for key in ("0" * 64, ""):
            file = self.write("wpa.conf", wireless_file(one, key))
            done = subprocess.run(["wpa_supplicant", "-c", file, "-i", "nothing0", "-D", "wired", "-dd"], capture_output=True, text=True,
                                  timeout=200, check=False)  # fmt: skip
            said = done.stdout + done.stderr
            self.assertIn("ssid - hexdump_ascii(len=17)", said)
            self.assertNotIn("Line", "".join(line for line in said.splitlines() if "failed" in line or "unknown" in line))
            self.assertNotIn("Failed to read", said)


class TheSmallInitSetsThemUp(FolderTest):
    def test_as_the_kernel_has_them(self) -> None:
        root = self.folder / "root"
        (root / "sbin").mkdir(parents=True)
        flags = ["-static", "-O1", "-Wall", "-Werror", "-fsanitize=undefined", "-fsanitize-undefined-trap-on-error"]
        starter_programs(root / "sbin", flags, "init")
        # Kernels of test machines often know no VLANs; bridges are made by the same request.
        for own in NETWORK_FORMS["plain"].write(in_order([WIRED, BRIDGE])):
            self.write(f"root{own.path}", own.content)
        self.write("root/etc/network.d/99-gone", "name = gone0\nkind = wired\noptional = yes\n")
        devices = "".join(f"ip link add eth{n} type veth peer name far{n}; ip link set far{n} up; " for n in range(3))
        show = "ip -j addr; echo; ip -j route; echo; ip -j -6 route; echo; ip -d -j link"
        done = subprocess.run(in_a_network(f"{devices} chroot {root} /sbin/init --network; {show}"), capture_output=True, text=True,
                              check=False)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        addresses, routes, routes6, links = (json.loads(line) for line in done.stdout.strip().splitlines() if line)
        found = {one["ifname"]: {f"{address['local']}/{address['prefixlen']}" for address in one["addr_info"]
                                 if address["scope"] == "global"} for one in addresses}  # fmt: skip
        self.assertEqual((found["eth0"], found["br0"]), ({"192.0.2.7/24", "2001:db8::7/64"}, {"203.0.113.7/24"}))
        self.assertIn(("default", "192.0.2.1", "eth0"), [(one["dst"], one.get("gateway"), one["dev"]) for one in routes])
        self.assertIn(("default", "2001:db8::1", "eth0"), [(one["dst"], one.get("gateway"), one["dev"]) for one in routes6])
        by_name = {one["ifname"]: one for one in links}
        self.assertEqual(by_name["eth0"]["mtu"], 1400)
        self.assertEqual((by_name["eth1"]["master"], by_name["eth2"]["master"]), ("br0", "br0"))
        self.assertTrue(all("UP" in by_name[name]["flags"] for name in ("lo", "eth0", "br0", "eth1")))
        # What is missing is said, and is a failure of the service, unless nobody waits for it.
        (root / "etc/network.d/98-gone").write_text("name = gone1\nkind = vlan\nof = nothing\nnumber = 5\n")
        done = subprocess.run(
            in_a_network(f"{devices} chroot {root} /sbin/init --network"), capture_output=True, text=True, check=False
        )
        self.assertNotEqual(done.returncode, 0)
        self.assertIn("init: network: gone1: cannot be made", done.stderr)


class OthersReadTheirs(FolderTest):
    def test_interfaces_by_ifup(self) -> None:
        [own] = NETWORK_FORMS["interfaces"].write(
            in_order([WIRED, replace(AUTOMATIC, name="eth3"), replace(BRIDGE, name="br0")])
        )
        file = self.write("interfaces", own.content)
        (self.folder / "state").mkdir()
        said = self.tool("ifup", "--no-act", "--no-scripts", "--state-dir", self.folder / "state", "-i", file, "eth3")
        said += self.tool("ifup", "--no-act", "--no-scripts", "--state-dir", self.folder / "state", "-i", file, "-a")
        for words in (
            "192.0.2.7/255.255.255.0",
            "2001:db8::7/64",
            "default via 192.0.2.1",
            "via 2001:db8::1",
            "203.0.113.7",
            "1400",
        ):
            self.assertIn(words, said)
        self.assertRegex(said, r"dhclient|udhcpc|dhcpcd|No DHCP client")
        self.assertIn("bridge_ports: eth1 eth2", self.tool("ifquery", "-i", file, "br0"))
        vlan = self.write("vlan", NETWORK_FORMS["interfaces"].write([VLAN])[0].content)
        self.assertIn("vlan-raw-device: eth0", self.tool("ifquery", "-i", vlan, "eth0.7"))

    def test_network_files_by_their_manager(self) -> None:
        bridge_vlan = Interface(name="br0.5", kind="vlan", of="br0", number=5, automatic=("ipv6",))
        for own in NETWORK_FORMS["units"].write(in_order([*ALL, replace(AUTOMATIC, name="eth3"), bridge_vlan])):
            self.write(f"root{own.path}", own.content)
        folder = self.folder / "root/etc/systemd/network"
        self.assertIn("VLAN=eth0.7\n", (folder / "20-eth0.network").read_text())
        self.assertIn("Bridge=br0\n", (folder / "20-eth1.network").read_text())
        # Interfaces keep their names, as the device manager's own part reads it; what the manager itself makes needs no such file.
        links = sorted(path.name for path in folder.glob("*.link"))
        self.assertEqual([name for name in links if name in ("20-eth0.link", "20-eth1.link")], ["20-eth0.link", "20-eth1.link"])
        self.assertEqual([name for name in links if "br0" in name or "." in name.removesuffix(".link")], [])
        self.assertEqual((folder / "20-eth0.link").read_text(), "[Match]\nOriginalName=eth0\n\n[Link]\nName=eth0\n")
        script = (
            "mount -t tmpfs none /run; mkdir -p /etc/systemd/network; mount --bind {folder} /etc/systemd/network; "
            "SYSTEMD_LOG_TARGET=console SYSTEMD_LOG_LEVEL=debug timeout 3 /lib/systemd/systemd-networkd 2>&1 || true"
        )
        said = subprocess.run(in_a_network(script.format(folder=folder)), capture_output=True, text=True, check=False).stdout
        self.assertIn('eth0.7: loaded "vlan"', said)
        self.assertIn('br0: loaded "bridge"', said)
        self.assertEqual([line for line in said.splitlines() if line.startswith("/etc/systemd/network")], [])
        (folder / "20-eth0.network").write_text((folder / "20-eth0.network").read_text() + "Nonsense=1\n")
        said = subprocess.run(in_a_network(script.format(folder=folder)), capture_output=True, text=True, check=False).stdout
        self.assertIn("Unknown key", said)

    def test_what_a_form_cannot_say(self) -> None:
        for changed, form in ((AUTOMATIC, "plain"), (replace(VLAN, name="tide"), "interfaces")):
            self.assertEqual(len(NETWORK_FORMS[form].lacks(changed)), 1)
        for form in NETWORK_FORMS.values():
            self.assertEqual([lack for one in ALL for lack in form.lacks(one)], [])

    def test_a_wireless_network_is_joined_by_a_program_of_its_own(self) -> None:
        wireless = Interface(name="wlan0", kind="wireless", wireless=Wireless(ssid="x"))
        network, joining = NETWORK_FORMS["plain"].services("/sbin/init", [WIRED, wireless])
        self.assertEqual((network.name, network.once), ("network", True))
        self.assertEqual((joining.name, joining.after, joining.arguments), (
            "wireless-wlan0", ("network",), ("-i", "wlan0", "-c", "/etc/wpa_supplicant/wpa_supplicant-wlan0.conf"),
        ))  # fmt: skip

    def test_one_is_added_through_the_table_alone(self) -> None:
        NETWORK_FORMS["list"] = NetworkForm("list", lambda found: [OwnPath(path="/n", kind="file", mode=0o644, content=found[0].name)],
                                            lambda one: [])  # fmt: skip
        self.addCleanup(NETWORK_FORMS.pop, "list")
        self.assertEqual(NETWORK_FORMS["list"].write(ALL)[0].content, "eth0")
        self.assertIn("list", choices()["network form"])


class AnImageHasANetwork(WorkspaceTest):
    def image(self, more: str) -> None:
        (self.root / "s/images/i.toml").write_text(f'packages = ["init"]\n{more}')

    def test_files_service_and_resolver(self) -> None:
        self.write("w/s/images/rules.nft", "table inet gauge { }\n")
        self.image("""firewall = "rules.nft"
[[network]]
name = "eth0"
addresses = ["192.0.2.7/24"]
gateways = ["192.0.2.1"]
name-servers = ["192.0.2.1"]
[[service]]
name = "log"
program = "/sbin/init"
after = ["network"]
""")
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/network.d/01-eth0"),
                         "name = eth0\nkind = wired\naddress = 192.0.2.7/24\ngateway = 192.0.2.1\n")  # fmt: skip
        self.assertEqual(self.content("/etc/services/network.service"),
                         "# Sets network interfaces up\nrun = /sbin/init\nargument = --network\nonce = yes\n")  # fmt: skip
        self.assertEqual(self.content("/etc/resolv.conf"), "nameserver 192.0.2.1\n")
        self.assertEqual(self.content("/etc/nftables.conf"), "table inet gauge { }\n")
        self.assertRegex(self.yarrik("show", "--services", at=self.root), r"network +root +at start +once\n +log ")
        self.image('[[network]]\nname = "eth0"\nautomatic = ["ipv4"]\n')
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("NETWORK-FORM: the interface `eth0` does not fit the form `plain`, which never asks for addresses", said)
        self.assertIn("s/images/i.toml:2", said)
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nnetwork-form = "units"\n')
        self.yarrik("build", at=self.root)
        self.assertIn("DHCP=ipv4", self.content("/etc/systemd/network/20-eth0.network"))
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nnetwork-form = "unit"\n')
        self.assertIn("NETWORK-FORM-UNKNOWN", self.yarrik("check", at=self.root, code=2))
        self.image('[[network]]\nname = "eth0"\naddresses = ["192.0.2.7/24"]\ngateways = ["192.0.3.1"]\n')
        (self.root / "s/profiles/p.toml").write_text('init = "init"\n')
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("NETWORK-UNFIT", said)
        self.assertIn("s/images/i.toml:5", said)

    def test_the_secret_of_a_wireless_network_is_nowhere(self) -> None:
        secret = "gull rock at low tide"
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nnetwork-form = "interfaces"\n')
        self.image(
            '[[network]]\nname = "wlan0"\nkind = "wireless"\nautomatic = ["ipv4"]\nwireless = { ssid = "harbour", secret = "air" }\n'
        )
        self.assertIn("SECRET-MISSING", self.yarrik("build", at=self.root, code=2))
        self.environment["YARRIK_SECRET_AIR"] = "short"
        self.assertIn(
            "SECRET-FORM: the secret `air` cannot join a wireless network", self.yarrik("build", at=self.root, code=2)
        )
        self.environment["YARRIK_SECRET_AIR"] = secret
        said = self.yarrik("build", at=self.root)
        path = "/etc/wpa_supplicant/wpa_supplicant-wlan0.conf"
        key = wireless_key("harbour", secret)
        self.assertIn(f"psk={key}", self.content(path))
        files = {row["path"]: row for row in json.loads((self.root / "out/p/files.json").read_text())["files"]}
        self.assertEqual(files[path]["mode"], "0600")
        said += self.yarrik("plan", "--why", "assemble p", at=self.root)
        self.assertNotIn(key, said)
        found = [path for path in self.folder.rglob("*") if path.is_file() and secret.encode() in path.read_bytes()]
        self.assertEqual(found, [])
        shutil.rmtree(self.root / "out")


if __name__ == "__main__":
    unittest.main()
