"""Runs a program sealed off, so that it reaches nothing but what it was given. A program of its own:

    python -I -S seal.py SPEC -- COMMAND …      replaces itself by COMMAND python -I -S seal.py --network COMMAND …
    the same, in a network of its own in which nothing is, and in no other seal python -I -S seal.py --probe
    prints as JSON what this machine allows, part by part

SPEC is a JSON file (`keenharbor.host.sealing.Sealing`). In this order, and each part only as far as the machine allows
it: the network of a clone is joined, or one with nothing in it made; a root of its own is mounted, in which only what
is named is there (mount_namespaces(7)); limits are set; capabilities are dropped; no new privileges can be had
(prctl(2)); and Landlock (landlock(7)) keeps it from all other files, from sockets and signals beyond its own programs.
Parts that the SPEC calls for and that fail here although the probe had found them stop the program before it is
started."""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import marshal
import os
import resource
import stat
import struct
import sys

# Every program of a clone is started through this one: what takes long to import, and is seldom wanted, is imported
# where it is.
TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any, TypeAlias

    Spec: TypeAlias = dict[str, Any]

_LIBC = ctypes.CDLL(None, use_errno=True)

CLONE_NEWNS, CLONE_NEWUSER, CLONE_NEWNET = 0x00020000, 0x10000000, 0x40000000
_MS_REC, _MS_PRIVATE, _MNT_DETACH = 0x4000, 0x40000, 2
_OPEN_TREE, _MOVE_MOUNT, _MOUNT_SETATTR = 428, 429, 442
_OPEN_TREE_CLONE, _AT_RECURSIVE, _AT_EMPTY_PATH, _MOVE_FROM_EMPTY = 1, 0x8000, 0x1000, 4
_ATTR_RDONLY, _ATTR_NOSUID, _ATTR_NODEV = 1, 2, 4
_PIVOT_ROOT = {"x86_64": 155, "aarch64": 41, "riscv64": 41, "ppc64le": 203, "s390x": 217}
_PR_SET_NO_NEW_PRIVS, _PR_CAPBSET_DROP, _PR_CAP_AMBIENT = 38, 24, 47
_LANDLOCK_CREATE, _LANDLOCK_ADD, _LANDLOCK_RESTRICT = 444, 445, 446

# Rights of Landlock by the version of its interface that brought them (linux/landlock.h).
_EXECUTE, _WRITE_FILE, _READ_FILE, _READ_DIR = 1 << 0, 1 << 1, 1 << 2, 1 << 3
_MAKE_CHAR, _MAKE_BLOCK, _REFER, _TRUNCATE, _IOCTL = 1 << 6, 1 << 11, 1 << 13, 1 << 14, 1 << 15
_ALL_FILES = {1: (1 << 13) - 1, 2: (1 << 14) - 1, 3: (1 << 15) - 1, 4: (1 << 15) - 1, 5: (1 << 16) - 1}
_READ = _EXECUTE | _READ_FILE | _READ_DIR
_OF_FILES = _EXECUTE | _WRITE_FILE | _READ_FILE | _TRUNCATE | _IOCTL
_BIND_TCP, _CONNECT_TCP = 1, 2
_SCOPE_ABSTRACT, _SCOPE_SIGNAL = 1, 2

# What programs that run as root may go on with: owners, modes and users of their own files.
_KEPT_CAPABILITIES = {0, 1, 3, 4, 6, 7, 10}  # CHOWN, DAC_OVERRIDE, FOWNER, FSETID, SETGID, SETUID, NET_BIND_SERVICE

DEVICES = ("null", "zero", "full", "random", "urandom", "tty")
_DEVICE_LINKS = (("fd", "/proc/self/fd"), ("stdin", "/proc/self/fd/0"), ("stdout", "/proc/self/fd/1"),
                 ("stderr", "/proc/self/fd/2"))  # fmt: skip


class SealError(Exception):
    """A part could not be set up."""


def _call(number: int, *arguments: object) -> int:
    """A system call; raises OSError."""
    done = _LIBC.syscall(ctypes.c_long(number), *arguments)
    if done < 0:
        error = ctypes.get_errno()
        raise OSError(error, os.strerror(error))
    return int(done)


def _lib(name: str, *arguments: object) -> int:
    done = getattr(_LIBC, name)(*arguments)
    if done < 0:
        error = ctypes.get_errno()
        raise OSError(error, f"{name}: {os.strerror(error)}")
    return int(done)


# -- namespaces -----------------------------------------------------------------------------------------------


def _join(kind: str, pid: int, flag: int) -> None:
    descriptor = os.open(f"/proc/{pid}/ns/{kind}", os.O_RDONLY | os.O_CLOEXEC)
    try:
        _lib("setns", descriptor, flag)
    finally:
        os.close(descriptor)


def new_user_namespace() -> None:
    """As the same user, with every right over what is made in it. Raises OSError."""
    uid, gid = os.geteuid(), os.getegid()
    _lib("unshare", CLONE_NEWUSER)
    for name, text in (("setgroups", "deny"), ("uid_map", f"{uid} {uid} 1"), ("gid_map", f"{gid} {gid} 1")):
        with open(f"/proc/self/{name}", "w") as file:
            file.write(text)


def _namespaces(spec: Spec, wants_mounts: bool) -> bool:
    """Whether its users are a namespace of its own."""
    holder, network = spec.get("holder"), spec.get("network", "open")
    is_root = os.geteuid() == 0
    own_users = not is_root and bool(holder or wants_mounts or network == "none")
    if holder and not is_root:
        _join("user", holder, CLONE_NEWUSER)
    elif own_users:
        new_user_namespace()
    if holder:
        _join("net", holder, CLONE_NEWNET)
    elif network == "none":
        _lib("unshare", CLONE_NEWNET)
    if wants_mounts:
        _lib("unshare", CLONE_NEWNS)
    return own_users


# -- a root of its own ----------------------------------------------------------------------------------------


def _picked(path: str, read_only: bool) -> int:
    """A mount of ``path`` that is in no place yet."""
    tree = _call(
        _OPEN_TREE, ctypes.c_int(-100), ctypes.c_char_p(os.fsencode(path)),
        ctypes.c_uint(_OPEN_TREE_CLONE | os.O_CLOEXEC | _AT_RECURSIVE),
    )  # fmt: skip
    wanted = _ATTR_NOSUID | (_ATTR_RDONLY if read_only else 0)
    attributes = struct.pack("QQQQ", wanted, 0, 0, 0)
    _call(
        _MOUNT_SETATTR, ctypes.c_int(tree), ctypes.c_char_p(b""), ctypes.c_uint(_AT_EMPTY_PATH | _AT_RECURSIVE),
        ctypes.c_char_p(attributes), ctypes.c_size_t(len(attributes)),
    )  # fmt: skip
    return tree


def _put(tree: int, place: str) -> None:
    _call(
        _MOVE_MOUNT, ctypes.c_int(tree), ctypes.c_char_p(b""), ctypes.c_int(-100), ctypes.c_char_p(os.fsencode(place)),
        ctypes.c_uint(_MOVE_FROM_EMPTY),
    )  # fmt: skip
    os.close(tree)


def _tmpfs(place: str, options: str) -> None:
    _lib("mount", b"tmpfs", os.fsencode(place), b"tmpfs", ctypes.c_ulong(_ATTR_NOSUID | _ATTR_NODEV), options.encode())


def _mount_point(place: str, is_folder: bool) -> None:
    """Something to mount on, made where nothing is."""
    if is_folder:
        os.makedirs(place, exist_ok=True)
    else:
        os.makedirs(os.path.dirname(place), exist_ok=True)
        if not os.path.lexists(place):
            os.close(os.open(place, os.O_WRONLY | os.O_CREAT, 0o600))


def _own_root(spec: Spec) -> None:
    """Change to a root in which only what is named stands. Raises OSError."""
    machine = os.uname().machine
    if machine not in _PIVOT_ROOT:
        raise OSError(0, f"no root of its own on {machine}")
    new, folder = spec["new_root"], os.getcwd()
    _lib("mount", b"none", b"/", None, ctypes.c_ulong(_MS_REC | _MS_PRIVATE), None)
    parts = [(p, "read") for p in spec["readable"]] + [(p, "write") for p in spec["writable"]]
    parts += [(p, "hide") for p in spec["hidden"]] + [("/proc", "read"), ("/sys", "read")]
    parts += [(f"/dev/{d}", "write") for d in DEVICES]
    picked: list[tuple[str, str, int, bool]] = []
    links: list[tuple[str, str]] = []
    for path, what in sorted(parts, key=lambda p: (p[0].count("/"), p[0])):
        try:
            found = os.lstat(path)
        except OSError:
            continue
        if stat.S_ISLNK(found.st_mode):
            links.append((path, os.readlink(path)))
            continue
        tree = -1 if what == "hide" else _picked(path, what == "read")
        picked.append((path, what, tree, stat.S_ISDIR(found.st_mode)))
    temporary = _picked(spec["temporary"], read_only=False)
    _tmpfs(new, "size=4m,mode=755,nr_inodes=8192")
    if spec.get("own_tmp", True):
        _mount_point(f"{new}/tmp", True)
        _put(temporary, f"{new}/tmp")
        os.makedirs(f"{new}/var", exist_ok=True)
        os.symlink("/tmp", f"{new}/var/tmp")
    else:
        os.close(temporary)
    for path, what, tree, is_folder in picked:
        place = new + path
        if what == "hide":
            # Only what a larger part would have brought along is hidden; what is not there needs no hiding.
            if os.path.lexists(place):
                _hide(place, is_folder)
            continue
        with contextlib.suppress(FileExistsError):
            _mount_point(place, is_folder)
        _put(tree, place)
    for path, target in links:
        place = new + path
        if not os.path.lexists(place):
            os.makedirs(os.path.dirname(place), exist_ok=True)
            with contextlib.suppress(OSError):
                os.symlink(target, place)
    for name, target in _DEVICE_LINKS:
        os.symlink(target, f"{new}/dev/{name}")
    os.makedirs(f"{new}/dev/shm", exist_ok=True)
    _tmpfs(f"{new}/dev/shm", "size=256m,mode=1777")
    os.makedirs(f"{new}/tmp", exist_ok=True)
    _read_only(new)
    os.chdir(new)
    _call(_PIVOT_ROOT[machine], ctypes.c_char_p(b"."), ctypes.c_char_p(b"."))
    _lib("umount2", b".", _MNT_DETACH)
    os.chdir("/")
    os.chdir(folder)


def _read_only(place: str) -> None:
    """The folders that lead to what is mounted are nobody's to write into."""
    attributes = struct.pack("QQQQ", _ATTR_RDONLY, 0, 0, 0)
    _call(
        _MOUNT_SETATTR, ctypes.c_int(-100), ctypes.c_char_p(os.fsencode(place)), ctypes.c_uint(0),
        ctypes.c_char_p(attributes), ctypes.c_size_t(len(attributes)),
    )  # fmt: skip


def _hide(place: str, is_folder: bool) -> None:
    if is_folder:
        _tmpfs(place, "size=4k,mode=755,nr_inodes=512")
    else:
        _put(_picked("/dev/null", read_only=True), place)


# -- limits and rights ----------------------------------------------------------------------------------------


def _limits(spec: Spec, own_users: bool) -> None:
    limits = spec.get("limits", {})
    for kind, name in (
        (resource.RLIMIT_NPROC, "processes"), (resource.RLIMIT_FSIZE, "file_bytes"),
        (resource.RLIMIT_DATA, "program_bytes"),
    ):  # fmt: skip
        # The number of processes is a user's; in a namespace of its own it counts those in it alone
        # (user_namespaces(7)).
        if limits.get(name) and (own_users or kind != resource.RLIMIT_NPROC):
            _, most = resource.getrlimit(kind)
            wanted = limits[name] if most == resource.RLIM_INFINITY else min(limits[name], most)
            resource.setrlimit(kind, (wanted, wanted))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _enter_groups(spec: Spec) -> None:
    for folder in spec.get("control_groups", ()):
        with open(os.path.join(folder, "cgroup.procs"), "w") as file:
            file.write(str(os.getpid()))


def _become(user: str) -> None:
    import pwd

    facts = pwd.getpwnam(user)
    os.setgroups([])
    os.setgid(facts.pw_gid)
    os.setuid(facts.pw_uid)


def _drop_rights() -> None:
    """Keep what a program needs for its own files, and let no program that it starts get more."""
    for capability in range(64):
        if capability not in _KEPT_CAPABILITIES and _LIBC.prctl(_PR_CAPBSET_DROP, capability, 0, 0, 0) < 0:
            if ctypes.get_errno() == 22:  # the kernel knows no more of them
                break
            if os.geteuid() == 0:
                raise SealError("capabilities cannot be dropped")
            break  # an ordinary user has none that could be dropped
    kept = sum(1 << c for c in _KEPT_CAPABILITIES)
    header = struct.pack("Ii", 0x20080522, 0)
    current = ctypes.create_string_buffer(24)
    if _LIBC.capget(ctypes.c_char_p(header), current) == 0:
        words = list(struct.unpack("6I", current.raw))
        low, high = kept & 0xFFFFFFFF, kept >> 32
        words = [w & (low if i < 3 else high) for i, w in enumerate(words)]
        words[2] = words[5] = 0  # none is handed on to what is started
        _LIBC.capset(ctypes.c_char_p(header), ctypes.c_char_p(struct.pack("6I", *words)))
    _LIBC.prctl(_PR_CAP_AMBIENT, 4, 0, 0, 0)


# -- Landlock -------------------------------------------------------------------------------------------------


def landlock_version() -> int:
    """Which interface of Landlock this machine has; 0 for none."""
    try:
        return _call(_LANDLOCK_CREATE, None, ctypes.c_size_t(0), ctypes.c_uint(1))
    except OSError:
        return 0


def _landlock(spec: Spec, has_own_root: bool) -> None:
    version = landlock_version()
    if version < 1:
        raise OSError(0, "this kernel has no Landlock")
    handled = _ALL_FILES[min(version, 5)]
    ports: dict[str, list[int]] = spec.get("ports") or {}
    network = (_BIND_TCP | _CONNECT_TCP) if ports and version >= 4 else 0
    scoped = (_SCOPE_ABSTRACT | _SCOPE_SIGNAL) if version >= 6 else 0
    words = struct.pack("QQQ", handled, network, scoped)
    size = 24 if version >= 6 else 16 if version >= 4 else 8
    rules = _call(_LANDLOCK_CREATE, ctypes.c_char_p(words), ctypes.c_size_t(size), ctypes.c_uint(0))
    writes = handled & ~(_MAKE_CHAR | _MAKE_BLOCK | _IOCTL)
    for path in (*_without(spec["readable"], spec["hidden"]), "/proc", "/sys"):
        _allow(rules, path, _READ & handled)
    for path in spec["writable"]:
        _allow(rules, path, writes)
    for device in DEVICES:
        _allow(rules, f"/dev/{device}", (_READ_FILE | _WRITE_FILE | _TRUNCATE | _IOCTL) & handled)
    own = [*(["/tmp"] if spec.get("own_tmp", True) else []), "/dev/shm"]
    for path in own if has_own_root else (spec["temporary"], *spec.get("shared_memory", ())):
        _allow(rules, path, writes)
    if network:
        for port in ports["bind"]:
            _allow_port(rules, port, _BIND_TCP)
        for port in ports["connect"]:
            _allow_port(rules, port, _CONNECT_TCP)
    _call(_LANDLOCK_RESTRICT, ctypes.c_int(rules), ctypes.c_uint(0))
    os.close(rules)


def _without(paths: list[str], hidden: list[str]) -> list[str]:
    """``paths``, and where something hidden lies in one, all that stands beside the way to it."""
    found: list[str] = []
    left = list(paths)
    while left:
        path = left.pop()
        if path in hidden or path + "/" in hidden:
            continue
        if not any(h.startswith(path.rstrip("/") + "/") for h in hidden):
            found.append(path)
            continue
        with contextlib.suppress(OSError):
            left.extend(os.path.join(path, name) for name in os.listdir(path))
    return found


def _allow(rules: int, path: str, rights: int) -> None:
    try:
        descriptor = os.open(path, os.O_PATH | os.O_CLOEXEC)
    except OSError:
        return
    try:
        if not stat.S_ISDIR(os.fstat(descriptor).st_mode):
            rights &= _OF_FILES
        words = struct.pack("=Qi", rights, descriptor)
        _call(_LANDLOCK_ADD, ctypes.c_int(rules), ctypes.c_int(1), ctypes.c_char_p(words), ctypes.c_uint(0))
    finally:
        os.close(descriptor)


def _allow_port(rules: int, port: int, right: int) -> None:
    words = struct.pack("=QQ", right, port)
    _call(_LANDLOCK_ADD, ctypes.c_int(rules), ctypes.c_int(2), ctypes.c_char_p(words), ctypes.c_uint(0))


# -- the program ----------------------------------------------------------------------------------------------


def seal(spec: Spec) -> None:
    """Seal this process off by ``spec``. Raises OSError, or `SealError`."""
    parts = spec["parts"]
    os.umask(spec.get("umask", 0o022))
    _enter_groups(spec)
    own_users = _namespaces(spec, parts["root"])
    if parts["root"]:
        _own_root(spec)
    _limits(spec, own_users)
    if spec.get("user"):
        _become(spec["user"])
    _drop_rights()
    _lib("prctl", _PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
    if parts["landlock"]:
        _landlock(spec, parts["root"])


_SIOCGIFFLAGS, _SIOCSIFFLAGS, _IFF_UP = 0x8913, 0x8914, 0x1


def own_network() -> None:
    """Change to a network in which nothing is but loopback (network_namespaces(7), netdevice(7)). Raises OSError."""
    if os.geteuid() != 0:
        new_user_namespace()
    _lib("unshare", CLONE_NEWNET)
    import socket

    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        asked = struct.pack("16sh14x", b"lo", 0)
        flags = struct.unpack("16sh14x", fcntl.ioctl(probe, _SIOCGIFFLAGS, asked))[1]
        fcntl.ioctl(probe, _SIOCSIFFLAGS, struct.pack("16sh14x", b"lo", flags | _IFF_UP))


def _tried(work: object) -> str:
    """Why ``work`` cannot be done here, in the system's words; empty when it can. In a process of its own."""
    here, there = os.pipe()
    pid = os.fork()
    if pid == 0:
        try:
            work()  # type: ignore[operator]
        except OSError as error:
            os.write(there, (str(error) or "refused").encode())
        finally:
            os._exit(0)
    os.close(there)
    with os.fdopen(here, "rb") as said:
        words = said.read().decode("utf-8", "replace")
    os.waitpid(pid, 0)
    return words


def _probe_root() -> str:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        inside = os.path.join(folder, "root")
        temporary = os.path.join(folder, "tmp")
        os.mkdir(inside)
        os.mkdir(temporary)
        spec = {"readable": ["/usr"], "writable": [temporary], "hidden": [], "new_root": inside, "temporary": temporary}

        def own_root() -> None:
            os.chdir("/usr")
            _namespaces({}, True)
            _own_root(spec)

        return _tried(own_root)


def main(words: list[str]) -> None:
    """See the head of this file."""
    if words == ["--probe"]:
        import json

        said = {"landlock": landlock_version(), "root": _probe_root(), "network": _tried(own_network)}
        print(json.dumps(said))  # noqa: T201
        return
    if words[0] == "--network":
        try:
            own_network()
            os.execvp(words[1], words[1:])
        except OSError as error:
            sys.stderr.write(f"{error}\n")
            os._exit(127)
    with open(words[0], "rb") as file:
        spec = marshal.load(file)  # written by the same interpreter, into a folder that is its user's alone
    command = words[words.index("--") + 1 :]
    try:
        seal(spec)
        os.execvp(command[0], command)
    except (OSError, SealError) as error:
        sys.stderr.write(f"the program could not be started in its seal: {command[0]}: {error}\n")
        os._exit(127)


if __name__ == "__main__":
    main(sys.argv[1:])
