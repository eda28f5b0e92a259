"""Rules for single values: each takes what was written and raises ValueError with a sentence when it is not fit."""

from __future__ import annotations

import re
import uuid
from collections.abc import Callable
from typing import Annotated

import msgspec

from yarrik.errors import Unfit
from yarrik.identifiers import check_filesystem_identifier, check_guid, is_guid
from yarrik.patterns import lazy_pattern
from yarrik.units import check_partition_size, parse_size, parse_span
from yarrik.versions import Version, parse_requirement, parse_wish

_NAME = lazy_pattern(r"[a-z0-9][a-z0-9+.-]*\Z")
_HOST = lazy_pattern(r"[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?\Z")
_ACCOUNT = lazy_pattern(r"[a-z_][a-z0-9_-]{0,30}\Z")
_CONFIG = lazy_pattern(r"[A-Za-z0-9][A-Za-z0-9._-]*\Z")
_VARIABLE = lazy_pattern(r"[A-Za-z_][A-Za-z0-9_]*\Z")


class Rule(msgspec.Struct, frozen=True):
    """Marks a type with a check; carried by `Annotated`."""

    check: Callable[[str], object]


def _matches(pattern: re.Pattern[str], text: str, sentence: str) -> None:
    if pattern.match(text) is None:
        raise Unfit(f"`{text}` {sentence}")


def check_name(text: str) -> None:
    """A name: small letters, digits, `-`, `.` and `+`."""
    _matches(_NAME, text, "is not a name: small letters, digits, `-`, `.` and `+`, beginning with a letter or digit")


def check_name_or_nothing(text: str) -> None:
    """A name, or an empty text that takes one away."""
    if text:
        check_name(text)


def check_product_version(text: str) -> None:
    """A product's own version: up to four numbers, like `1.4`."""
    if text and re.fullmatch(r"[0-9]{1,9}(\.[0-9]{1,9}){0,3}", text) is None:
        raise Unfit(f"`{text[:40]}` is not a version of a product: write up to four numbers, like `1.4`")


def check_image_path(text: str) -> None:
    """A path in the image, from the top, like `/etc/tide.conf`."""
    words = text.split("/")
    if not text.startswith("/") or any(word in ("", ".", "..") for word in words[1:]):
        raise Unfit(f"`{text}` is not a path in the image: write it from the top, like `/etc/tide.conf`")
    if "\0" in text or any(len(word.encode()) > 255 for word in words):
        raise Unfit(f"`{text[:40]}` has a part that no filesystem can hold")


def check_requirement(text: str) -> None:
    """A name, and perhaps options and versions: `libplot[png,-x11] >= 2, < 3`."""
    parse_requirement(text)


def check_option_need(text: str) -> None:
    """What an option needs or excludes: another option of the same recipe, or what any need may name."""
    if text.startswith("options."):
        check_name(text.removeprefix("options."))
    else:
        parse_requirement(text)


def check_url(text: str) -> None:
    """An address to download from, without a password."""
    if re.fullmatch(r"https?://[^\s/@]+(/[^\s]*)?", text) is None:
        raise Unfit("that is not an address to download from: it begins with https:// or http://, without a password")


def check_git_url(text: str) -> None:
    """The address of a git repository, without a password."""
    match = re.fullmatch(r"(https?|ssh|git|file)://(?:(?P<who>[^\s/@]*)@)?[^\s@]+", text)
    if match is None or "::" in text:
        raise Unfit("that is not an address of a repository: it begins with https://, ssh://, git:// or file://")
    if match["who"] is not None and (":" in match["who"] or match[1] != "ssh"):
        raise Unfit("an address with a password, or a token in its place, would be in every log: leave it out, and set up "
                         "a helper for credentials in git's own settings")  # fmt: skip


_REF = lazy_pattern(r"(?!.*(?:\.\.|//|@\{|\.lock(?:/|\Z)))[A-Za-z0-9_][A-Za-z0-9_./+-]{0,199}(?<![./])\Z")


def check_ref(text: str) -> None:
    """The name of a branch or tag, as git-check-ref-format has it, without those that look like an option."""
    _matches(_REF, text, "is not the name of a branch or tag")


def check_commit(text: str) -> None:
    """A whole commit: 40 or 64 hexadecimal digits."""
    if re.fullmatch(r"[0-9a-f]{40}|[0-9a-f]{64}", text) is None:
        raise Unfit(f"`{text}` is not a whole commit: 40 (or 64) digits of 0-9 and a-f; a branch or tag can move")


def check_version(text: str) -> None:
    """A version, like `1.2.3`."""
    Version(text)


def check_wish(text: str) -> None:
    """Versions that will do: `>= 1.2, < 2`."""
    parse_wish(text)


def check_host_name(text: str) -> None:
    """A host name (RFC 1123): letters, digits and `-`."""
    _matches(_HOST, text, "is not a host name: letters, digits and `-`, 63 at the most")


def check_account(text: str) -> None:
    """A user's or group's name."""
    _matches(_ACCOUNT, text, "is not an account's name: small letters, digits, `-`, `_`, 31 at the most")


_LABEL = r"[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?"
_DOMAIN = lazy_pattern(rf"(?=.{{1,253}}\Z){_LABEL}(\.{_LABEL})*\Z")
_ZONE = lazy_pattern(r"[A-Za-z0-9_+-]+(/[A-Za-z0-9_+-]+){0,3}\Z")
_LOCALE = lazy_pattern(r"[A-Za-z]{1,8}(_[A-Za-z]{2,3})?(\.[A-Za-z0-9-]+)?(@[a-z]+)?\Z")
_SYSCTL = lazy_pattern(r"[a-z0-9_]+([./][A-Za-z0-9_*:-]+)+\Z")


def check_ip_address(text: str) -> None:
    """An address of IPv4 or IPv6, without a network."""
    import ipaddress

    try:
        ipaddress.ip_address(text)
    except ValueError:
        raise Unfit(f"`{text}` is not an address, like 192.0.2.7 or 2001:db8::7") from None


_DOMAIN = lazy_pattern(
    r"(?=.{1,253}\Z)[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?)*\Z"
)


def check_domain(text: str) -> None:
    """A host's name, with or without its domain (RFC 1123)."""
    _matches(_DOMAIN, text, "is not a host's name: letters, digits and `-`, with dots between the parts")


def check_zone(text: str) -> None:
    """The name of a time zone, like `Pacific/Auckland`."""
    _matches(
        re.compile(r"[A-Za-z0-9_+-]+(/[A-Za-z0-9_+-]+){0,3}\Z"), text, "is not a time zone's name, like `Pacific/Auckland`"
    )


def check_locale(text: str) -> None:
    """The name of a locale, like `C.UTF-8` or `en_NZ.UTF-8`."""
    _matches(
        re.compile(r"[A-Za-z]{1,8}(_[A-Za-z]{2,3})?(\.[A-Za-z0-9-]+)?(@[a-z]+)?\Z"), text, "is not a locale, like `C.UTF-8`"
    )


def check_release_id(text: str) -> None:
    """A system's identifier as os-release(5) wants it."""
    _matches(re.compile(r"[a-z0-9._-]+\Z"), text, "is not a system's identifier: small letters, digits, `.`, `_` and `-`")


def check_sysctl(text: str) -> None:
    """A kernel parameter at run time, like `net.ipv4.ip_forward`."""
    _matches(_SYSCTL, text, "is not a kernel parameter, like `net.ipv4.ip_forward`")
    if ".." in text:
        raise Unfit(f"`{text}` is not a kernel parameter, like `net.ipv4.ip_forward`")


def check_link_target(text: str) -> None:
    """Where a link leads: a path from the root, or from the link's own folder."""
    check_one_line(text)
    if not text or len(text.encode()) > 4095:
        raise Unfit("a link needs a destination of 1 to 4095 bytes")


def check_service_name(text: str) -> None:
    """A service's name, which becomes part of a file's."""
    _matches(re.compile(r"[A-Za-z0-9][A-Za-z0-9_.@-]{0,60}\Z"), text, "is not a service's name: letters, digits, `-`, `_`, `.`")
    if text.endswith((".service", ".socket", ".timer")):
        raise Unfit(f"`{text}` is a file's name: leave the ending out")


def check_card_file(text: str) -> None:
    """The name of a settings file at the top of a boot partition."""
    form = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,40}\.(txt|conf|cfg|ini)\Z")
    _matches(form, text, "is not a settings file's name: letters, digits, `-`, `_`, and .txt, .conf, .cfg or .ini")


def check_setting_name(text: str) -> None:
    """A setting's name, which becomes a variable's."""
    _matches(re.compile(r"[a-z][a-z0-9-]{0,40}\Z"), text, "is not a setting's name: small letters, digits, `-`")


_LISTEN = lazy_pattern(r"tcp:(?P<address>[0-9.]+):(?P<port>[0-9]{1,5})|unix:(?P<path>/[!-~]{1,100})")


def check_listen(text: str) -> None:
    """Where a service is waited for: `tcp:ADDRESS:PORT` or `unix:PATH`."""
    match = _LISTEN.fullmatch(text)
    if match is None:
        raise Unfit(f"`{text}` is no place to listen: write `tcp:0.0.0.0:7000` or `unix:/run/tide`")
    if match["address"]:
        check_ip_address(match["address"])
        if not 0 < int(match["port"]) < 65536:
            raise Unfit(f"the port {match['port']} is not between 1 and 65535")


def check_mount_option(text: str) -> None:
    """One option of fstab(5), like `noatime`."""
    _matches(
        re.compile(r"[A-Za-z0-9_.:=/@%+-]{1,200}\Z"), text, "is not an option of a mount: no blanks and commas, one for each"
    )


def check_interface(text: str) -> None:
    """A network interface's name, as the kernel takes it (dev_valid_name): 15 bytes at the most."""
    if re.fullmatch(r"[A-Za-z0-9_.-]{1,15}", text) is None or text in (".", ".."):
        raise Unfit(f"`{text}` is not an interface's name, like `eth0`: letters, digits, `-`, `_`, `.`, 15 at the most")


def check_address_with_bits(text: str) -> None:
    """An address with the bits of its network, like `192.0.2.7/24`."""
    import ipaddress

    try:
        if "/" not in text:
            raise ValueError
        ipaddress.ip_interface(text)
    except ValueError:
        raise Unfit(f"`{text}` is not an address with its network's bits, like 192.0.2.7/24 or 2001:db8::7/64") from None


def check_ssid(text: str) -> None:
    """The name of a wireless network (IEEE 802.11): 1 to 32 bytes."""
    check_one_line(text)
    if not 1 <= len(text.encode()) <= 32:
        raise Unfit("the name of a wireless network has 1 to 32 bytes")


def check_country(text: str) -> None:
    """A country's two letters (ISO 3166-1)."""
    _matches(re.compile(r"[A-Z]{2}\Z"), text, "is not a country's two letters, like `NZ`")


def check_capabilities(text: str) -> None:
    """Capabilities of a file, like `cap_net_raw,cap_net_admin=ep`."""
    from yarrik.capabilities import encode_capabilities

    encode_capabilities(text)


def check_extended_name(text: str) -> None:
    """The name of an extended attribute."""
    if re.fullmatch(r"(user|trusted|security)\.[!-~]{1,200}", text) is None:
        raise Unfit(f"`{text}` is not the name of an extended attribute, like `user.origin`")
    if text == "security.capability":
        raise Unfit("capabilities are written with `capabilities`, like `cap_net_raw=ep`")


def check_account_comment(text: str) -> None:
    """What an account is for, as the fifth field of /etc/passwd holds it."""
    check_one_line(text)
    if ":" in text:
        raise Unfit("a comment of an account must not contain a `:`, which separates the fields of /etc/passwd")


def check_mode(text: str) -> None:
    """A mode in octal, like `0755`."""
    if re.fullmatch(r"[0-7]{3,4}", text) is None:
        raise Unfit(f"`{text}` is not a mode: three or four octal digits, like `0755`")


def check_size(text: str) -> None:
    """A size, like `16 MiB`."""
    parse_size(text)


def check_span(text: str) -> None:
    """A length of time, like `90 s`, `20 min` or `30 d`."""
    parse_span(text)


def check_public_key(text: str) -> None:
    """A public key, as `yarrik cache new-key` prints it."""
    if re.fullmatch(r"ed25519:[A-Za-z0-9+/]{43}=", text) is None:
        raise Unfit("it is not a public key; `yarrik cache new-key` prints one, like `ed25519:…=`")


def check_alignment(text: str) -> None:
    """A power of two, 512 bytes at the least, like `4 MiB`."""
    size = parse_size(text)
    if size < 512 or size & (size - 1):
        raise Unfit(f"`{text}` is not an alignment: a power of two, 512 bytes at the least")


#: Roles that partitions may have; the tables know the number of each.
ROLES = ("linux", "efi-system", "basic-data", "swap", "boot", "root-arm64", "root-x86-64")


def partition_type(text: str) -> uuid.UUID | int | None:
    """A GUID, the byte of a classic table, or None for a role's name."""
    if re.fullmatch(r"0x[0-9a-fA-F]{2}", text):
        return int(text, 16)
    return uuid.UUID(text) if is_guid(text) else None


def check_partition_type(text: str) -> None:
    """A role, a GUID (UEFI 2.10, 5.3.3), or the byte of an MBR, like `0x83`."""
    if text not in ROLES and partition_type(text) is None:
        raise Unfit(f"`{text}` is not a type of partition: a role ({', '.join(ROLES)}), a GUID, or a byte like `0x83`")


def check_disk_signature(text: str) -> None:
    """An MBR's disk signature, like `0x1234abcd`."""
    if text and (re.fullmatch(r"0x[0-9A-Fa-f]{8}", text) is None or int(text, 16) == 0):
        raise Unfit(f"`{text}` is not a signature of a disk: eight digits of 0-9 and a-f, like `0x1234abcd`, and not zero")


def check_sha256(text: str) -> None:
    """A SHA-256 digest: 64 hexadecimal digits."""
    if re.fullmatch(r"[0-9a-f]{64}", text) is None:
        raise Unfit(f"`{text}` is not a SHA-256 digest: 64 digits of 0-9 and a-f")


def check_address(text: str) -> None:
    """An address in memory, like `0x40400000`."""
    if text and re.fullmatch(r"0x[0-9a-fA-F]{1,16}", text) is None:
        raise Unfit(f"`{text}` is not an address in memory: write it like `0x40400000`")


def check_check(text: str) -> None:
    """The code of a check, like `DTS-UNIT-ADDRESS`."""
    if re.fullmatch(r"[A-Z]+(?:-[A-Z]+)+", text) is None:
        raise Unfit(f"`{text}` is not a check's code, like `DTS-UNIT-ADDRESS`")


def check_relative(text: str) -> None:
    """A path below this definition's folder."""
    if not text or text.startswith("/") or ".." in text.split("/"):
        raise Unfit(f"`{text}` must be a path below this definition's folder")


_OUTPUT_NAME = lazy_pattern(r"[A-Za-z0-9][A-Za-z0-9._+-]*\Z")


def output_of(text: str) -> tuple[str, str] | None:
    """Recipe and output of `RECIPE:OUTPUT`; None for anything else."""
    recipe, colon, output = text.partition(":")
    return (recipe, output) if colon and _NAME.match(recipe) and _OUTPUT_NAME.match(output) else None


def check_output_name(text: str) -> None:
    """The name of an output, like `loader.bin`."""
    _matches(_OUTPUT_NAME, text, "is not the name of an output: letters, digits, `.`, `_`, `+` and `-`")


def check_output(text: str) -> None:
    """An output of a recipe, as `RECIPE:OUTPUT`."""
    if output_of(text) is None:
        raise Unfit(f"`{text}` is not an output of a recipe: write it like `tide-loader:loader.bin`")


def check_file_or_output(text: str) -> None:
    """A path below this definition's folder, or an output of a recipe as `RECIPE:OUTPUT`."""
    if output_of(text) is None:
        check_relative(text)
        if _NAME.match(text.partition(":")[0]) and ":" in text:
            check_output(text)


def check_config(text: str) -> None:
    """The name of a base configuration, like `defconfig`."""
    _matches(_CONFIG, text, "is not the name of a base configuration, like `tinyconfig` or `defconfig`")


_HOST_PROGRAM = lazy_pattern(
    r"(?:library:[a-z0-9][a-z0-9+.-]*|perl:[A-Za-z0-9_]+(::[A-Za-z0-9_]+)*|python:[A-Za-z0-9_]+(\.[A-Za-z0-9_]+)*"
    r"|\[|[A-Za-z0-9_][A-Za-z0-9_.+-]*|(/[A-Za-z0-9_.+@:-]+)+)\Z"
)


def check_host_program(text: str) -> None:
    """A program's name, an absolute path, `perl:` or `python:` and a module's name, or `library:` and a library's name."""
    what = (
        "is no program: write its name, an absolute path, a module like `perl:XML::Parser` or `python:jinja2`, or a library "
        "like `library:openssl`"
    )
    _matches(_HOST_PROGRAM, text, what)
    if ".." in text.split("/"):
        raise Unfit(f"`{text}` has a `..` in it: write the path itself")


def check_variable(text: str) -> None:
    """The name of a variable."""
    _matches(_VARIABLE, text, "is not the name of a variable: letters, digits and `_`")


def check_one_line(text: str) -> None:
    """Text on one line."""
    if not text.isprintable() and any(ord(character) < 32 for character in text):
        raise Unfit("it must be on one line, without control characters")


def check_shell_safe(text: str) -> None:
    """A toolchain's prefix, like `aarch64-linux-gnu-`."""
    if re.fullmatch(r"[A-Za-z0-9_./+-]*", text) is None:
        raise Unfit(f"`{text}` is not a toolchain's prefix, like `aarch64-linux-gnu-`")


Name = Annotated[str, Rule(check_name)]
ImagePath = Annotated[str, Rule(check_image_path)]
Requirement = Annotated[str, Rule(check_requirement)]
OptionNeed = Annotated[str, Rule(check_option_need)]
GitUrl = Annotated[str, Rule(check_git_url)]
CommitId = Annotated[str, Rule(check_commit)]
Url = Annotated[str, Rule(check_url)]
RefName = Annotated[str, Rule(check_ref)]
VersionText = Annotated[str, Rule(check_version)]
WishText = Annotated[str, Rule(check_wish)]
HostName = Annotated[str, Rule(check_host_name)]
Account = Annotated[str, Rule(check_account)]
Address4Or6 = Annotated[str, Rule(check_ip_address)]
HostNameOrDomain = Annotated[str, Rule(check_domain)]
ZoneName = Annotated[str, Rule(check_zone)]
LocaleName = Annotated[str, Rule(check_locale)]
ReleaseId = Annotated[str, Rule(check_release_id)]
SysctlKey = Annotated[str, Rule(check_sysctl)]
LinkTarget = Annotated[str, Rule(check_link_target)]
ServiceName = Annotated[str, Rule(check_service_name)]
CardFileName = Annotated[str, Rule(check_card_file)]
SettingName = Annotated[str, Rule(check_setting_name)]
ListenText = Annotated[str, Rule(check_listen)]
MountOption = Annotated[str, Rule(check_mount_option)]
InterfaceName = Annotated[str, Rule(check_interface)]
AddressWithBits = Annotated[str, Rule(check_address_with_bits)]
Ssid = Annotated[str, Rule(check_ssid)]
CountryCode = Annotated[str, Rule(check_country)]
CapabilityText = Annotated[str, Rule(check_capabilities)]
ExtendedName = Annotated[str, Rule(check_extended_name)]
AccountComment = Annotated[str, Rule(check_account_comment)]
Mode = Annotated[str, Rule(check_mode)]
PartitionSize = Annotated[str, Rule(check_partition_size)]
Size = Annotated[str, Rule(check_size)]
Span = Annotated[str, Rule(check_span)]
PublicKey = Annotated[str, Rule(check_public_key)]
Alignment = Annotated[str, Rule(check_alignment)]
Guid = Annotated[str, Rule(check_guid)]
FilesystemIdentifier = Annotated[str, Rule(check_filesystem_identifier)]
DiskSignature = Annotated[str, Rule(check_disk_signature)]
PartitionType = Annotated[str, Rule(check_partition_type)]
Sha256 = Annotated[str, Rule(check_sha256)]
Address = Annotated[str, Rule(check_address)]
CheckCode = Annotated[str, Rule(check_check)]
Relative = Annotated[str, Rule(check_relative)]
OutputName = Annotated[str, Rule(check_output_name)]
OutputText = Annotated[str, Rule(check_output)]
FileOrOutput = Annotated[str, Rule(check_file_or_output)]
ConfigName = Annotated[str, Rule(check_config)]
HostProgram = Annotated[str, Rule(check_host_program)]
Variable = Annotated[str, Rule(check_variable)]
ProductVersion = Annotated[str, Rule(check_product_version)]
NameOrNothing = Annotated[str, Rule(check_name_or_nothing)]
OneLine = Annotated[str, Rule(check_one_line)]
ToolPrefix = Annotated[str, Rule(check_shell_safe)]
