"""Which headers and libraries in folders that all packages share are the toolchain's own.

A native compiler searches `/usr/include` and `/usr/lib`, where every development package of the host puts its files too. Of
those, only the C library's, the kernel's and the C++ library's belong to the toolchain: they are known by their names (ISO C,
POSIX, the GNU C library's manual, and the kernel's exported headers).
"""

from __future__ import annotations

from yarrik.host.words import words
from yarrik.patterns import lazy_pattern

#: Headers and folders of headers that belong to the C library, right in an include folder.
_C_LIBRARY = frozenset(
    words(
        """
    a.out aio aliases alloca ar argp argz assert byteswap complex cpio crypt ctype dirent dlfcn elf endian envz err errno
    error execinfo fcntl features features-time64 fenv fmtmsg fnmatch fpu_control fstab fts ftw gconv getopt glob
    gnu-versions grp gshadow iconv ieee754 ifaddrs inttypes iso646 langinfo lastlog libgen libintl limits link locale malloc
    math mcheck memory mntent monetary mqueue netdb nl_types nss obstack paths poll printf proc_service pthread pty pwd
    re_comp regex regexp resolv sched search semaphore setjmp sgtty shadow signal spawn stab stdalign stdarg stdbool
    stdc-predef stddef stdint stdio stdio_ext stdlib string strings syscall sysexits syslog tar termio termios tgmath
    thread_db threads time ttyent uchar ucontext ulimit unistd utime utmp utmpx values wait wchar wctype wordexp
    """
    )
)
_C_LIBRARY_FOLDERS = frozenset(
    words(
        """
    arpa bits finclude gnu net netash netatalk netax25 neteconet netinet netipx netiucv netpacket netrom netrose nfs
    protocols rpc scsi sys
    """
    )
)
#: Folders of the kernel's exported headers, and of the C++ library.
_KERNEL_FOLDERS = frozenset(["asm", "asm-generic", "drm", "linux", "misc", "mtd", "rdma", "regulator", "sound", "video", "xen"])
_CPLUSPLUS_FOLDERS = frozenset(["c++"])
_LIBRARIES = lazy_pattern(
    r"(?:[SMgr]*r?crt[1in]|grcrt1)\.o"
    r"|lib(?:BrokenLocale|anl|c|c_nonshared|c_malloc_debug|crypt|dl|g|m|m-[\d.]+|mcheck|mvec|nsl|nss_\w+|pthread|pthread_nonshared|resolv"
    r"|rt|thread_db|util|gcc_s|stdc\+\+|supc\+\+|atomic|gomp|ubsan|asan|tsan|lsan|itm|quadmath)\.(?:a|so(?:\.[\d.]+)?)"
    r"|libc\.musl-\w+\.so\.1|ld-[\w.-]+\.so(?:\.\d+)?|gconv|audit"
)


def is_toolchain_file(name: str, kind: str) -> bool:
    """Whether something right in a folder that packages share belongs to the toolchain. `kind` is `include` or `lib`."""
    if kind == "lib":
        return _LIBRARIES.fullmatch(name) is not None
    if name in _C_LIBRARY_FOLDERS or name in _KERNEL_FOLDERS or name in _CPLUSPLUS_FOLDERS:
        return True
    return name.endswith(".h") and name[:-2] in _C_LIBRARY
