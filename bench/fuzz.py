"""Feed spoiled inputs to everything that reads what others wrote:  python bench/fuzz.py [--number 9999] [--only dav]

Every reader takes each input, or refuses it in words of its own (`NeatError`). Whatever else it raises, five seconds
for one input, or a gigabyte of memory (setrlimit(2)) is a fault; it is shown with the seed that makes it again.
"""

from __future__ import annotations

import argparse
import gc
import io
import json
import random
import resource
import shutil
import signal
import tempfile
import time
import traceback
import zipfile
from collections.abc import Callable
from contextlib import redirect_stderr, redirect_stdout
from datetime import UTC, date, datetime
from functools import partial
from pathlib import Path
from typing import Any

from openpyxl import Workbook

from neatledger.cli import main as command
from neatledger.core.lists import nfs4, nt, posix
from neatledger.core.lists.descriptors import pack_descriptor, unpack_descriptor
from neatledger.core.lists.table import MODELS, parse_list
from neatledger.core.reviews.pack import Choice
from neatledger.core.space.sizes import parse_limit, parse_size
from neatledger.errors import NeatError
from neatledger.formats import headings, nfs4acl, posixacl, rolelist, sddl, signature
from neatledger.formats.davxml import parse_resources
from neatledger.formats.directory import accounts_of
from neatledger.formats.ldapmessage import check_answer, size_of
from neatledger.formats.ldif import parse_ldif
from neatledger.formats.passwd import parse_group, parse_passwd, parse_shadow
from neatledger.formats.reviewbook import read_answer
from neatledger.formats.stepfiles import read_steps
from neatledger.ledger.carried import read_carried
from neatledger.office.addresses import parse_address
from neatledger.office.read import parse_plan
from neatledger.sources.davfigures import parse_figures
from neatledger.sources.logs import exports
from neatledger.sources.logs.signins import parse_sign_in
from neatledger.sources.logs.syslog import parse_line
from neatledger.sources.logs.weblog import parse_web_line
from neatledger.sources.smbentries import unpack_entries
from neatledger.sources.smberrors import Lost

SECONDS, MEMORY = 5, 1 << 30
TODAY = date(2026, 11, 23)
_TOKENS = [b"\0", b"\n", b"\r\n", b"\xff", b"\xc3", b"\xed\xa0\x80", b"99999999", b"9" * 5000, b"-1", b"[" * 3000,
           b"0", "ü".encode(), "²".encode(), b"{" * 3000, b"(" * 3000, b"<a>", b"&x;", b",", b":", b'"', b"'", b";",
           b"\\", b"\x1b[31m", b"NaN", b"1e999", b"0 day", b"null", b"5", b"true", b"%00", b"../", b"*",
           b"&a", b"\t"]  # fmt: skip
Reader = Callable[[bytes], object]


def spoil(rng: random.Random, data: bytes) -> bytes:
    """Return an input with a few things changed."""
    changed = bytearray(data)
    for _ in range(rng.choice([1, 1, 1, 2, 3, 8])):
        at, end = sorted((rng.randrange(len(changed) + 1), rng.randrange(len(changed) + 1)))
        end = min(end, at + rng.choice([1, 2, 8, 60]))
        match rng.randrange(6):
            case 0:
                changed[at:end] = b""
            case 1:
                changed[at:at] = rng.choice(_TOKENS)
            case 2:
                changed[at:end] = rng.choice(_TOKENS)
            case 3:
                changed[at:at] = changed[at:end] * rng.choice([1, 2, 50])
            case 4 if changed:
                changed[min(at, len(changed) - 1)] = rng.randrange(256)
            case _:
                changed[at:] = b"" if rng.random() < 0.2 else changed[at:]
    return bytes(changed[:200_000])


def text_of(data: bytes) -> str:
    """Return some bytes as the text that a file's reader makes of them."""
    return data.decode("utf-8", "surrogateescape")


def spelt(text: str) -> None:
    """Read a size; what is none is told by a `ValueError` in one short line."""
    for parse in (parse_size, parse_limit):
        try:
            parse(text)
        except ValueError as error:
            if len(str(error)) > 400:
                raise AssertionError("an error of more than a line") from error


def book() -> bytes:
    """Return a workbook as it comes back."""
    made = Workbook()
    sheet = made.active
    sheet.title = "Review"
    heads = ["FOLDER", "PERSON", "NAME", "CAN", "BY", "SINCE", "LAST SIGN-IN", "THE PLAN SAYS", "DECISION"]
    heads += ["CHANGE TO", "REMARK", "ROW"]
    for row in (["Pack:", "1"], ["Decided by:", "A"], ["Date:", "2026-11-23"], *[[]] * 4, heads):
        sheet.append(row)
    sheet.append(["barn:/A", "a", "A", "read", "", "", "", "", Choice.KEEP.value, "", "", "1"])
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


def rezipped(read: Callable[[bytes], object], whole: bytes) -> tuple[Reader, bytes]:
    """Return what reads an archive of which one part was spoiled; the part's number is the input's first byte."""
    with zipfile.ZipFile(io.BytesIO(whole)) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    names = sorted(parts)

    def reader(data: bytes) -> object:
        name = names[data[0] % len(names)] if data else names[0]
        rng = random.Random(data)
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for one, part in parts.items():
                archive.writestr(one, spoil(rng, part) if one == name else part)
        return read(out.getvalue())

    return reader, bytes(range(64))


def readers(office: Path, folder: Path) -> dict[str, tuple[Reader, list[bytes]]]:
    """Return every reader with inputs that it takes."""

    def sample(name: str, most: int = 6000) -> bytes:
        return (office / name).read_bytes()[:most]

    def file_of(ending: str, read: Callable[[Path], object]) -> Reader:
        path = folder / f"input{ending}"

        def reader(data: bytes) -> object:
            path.write_bytes(data)
            return read(path)

        return reader

    def ldif(data: bytes) -> object:
        entries, _ = parse_ldif(text_of(data), "x")
        return [accounts_of(entries, TODAY, by_sid=by_sid) for by_sid in (True, False)]

    def answer(data: bytes) -> object:
        size_of(data)
        return check_answer(data)

    def evaluated(model: str) -> Reader:
        return lambda data: parse_list(model, data).view(is_folder=True)

    with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()):
        command(["count", "barn", "--export", str(folder / "a.count"), "--office", str(office)])
        command(["mend", "--steps", str(folder / "steps.json"), "--office", str(office)])
    carried = (folder / "a.count").read_bytes()
    log = {"columns": {"when": "when", "who": "who", "did": "did", "path": "path"}}
    row = {"when": "2026-11-23T10:00:00Z", "who": "a", "did": "read", "path": "/a"}
    rows = json.dumps([row, row]).encode()
    entry = bytes.fromhex("300c02010261070a010004000400")
    found: dict[str, tuple[Reader, list[bytes]]] = {
        "passwd": (lambda data: parse_passwd(text_of(data), "x"), [sample("barn.passwd")]),
        "group": (lambda data: parse_group(text_of(data), "x"), [sample("barn.group")]),
        "shadow": (lambda data: parse_shadow(text_of(data), "x", TODAY), [b"a:!:19000:0:9:7::20000:\nb:*:::::::\n"]),
        "ldif": (ldif, [sample("loft.directory.ldif"), sample("loft.ldif")]),
        "directory answers": (
            answer,
            [entry, bytes.fromhex("301a020103641504036f3d78300e300c0402636e310604016104016 2".replace(" ", ""))],
        ),
        "dav": (parse_resources, [_DAV]),
        "quota figures": (lambda data: parse_figures(data, "x"), [_DAV]),
        "signatures": (lambda data: signature.signer_of(text_of(data), "n", b"m"), [_SIGNATURE]),
        "public keys": (
            lambda data: signature.key_words(text_of(data)),
            [b"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAA a@b"],
        ),
        "workbooks": (lambda data: read_answer(data, "x"), [book()]),
        "plans": (lambda data: parse_plan(data.decode("utf-8", "replace"), "x"), [sample("office.yaml", 200_000)]),
        "addresses": (lambda data: parse_address(text_of(data)), [b"barn:/Records/2026"]),
        "sizes": (lambda data: spelt(text_of(data)), [b"2.5 GB", b"no limit"]),
        "tables": (headings.read_text, [sample("loft.csv")]),
        "descriptors": (unpack_descriptor, [sddl_body()]),
        "sddl": (
            lambda data: sddl.descriptor_from_sddl(text_of(data)),
            [b"O:BAG:SYD:PAI(A;OICI;0x1301bf;;;WD)(D;;FA;;;BU)"],
        ),
        "nfs4 texts": (
            lambda data: nfs4acl.entries_from_text(text_of(data)),
            [b"A:fd:OWNER@:rwaDdxtTnNcCoy,A:g:11:rx"],
        ),
        "posix texts": (
            lambda data: posixacl.entries_from_text(text_of(data)),
            [b"user::rwx,user:5:r--,group::r-x,mask::rwx,other::---"],
        ),
        "posix attributes": (posixacl.entries_from_attribute, [_ATTRIBUTE]),
        "role texts": (
            lambda data: rolelist.entries_from_text(text_of(data), lambda who, _: who),
            [b"user:a=read;group:b=write"],
        ),
        "smb listings": (unpack_entries, [bytes(200)]),
        "syslog": (
            lambda data: parse_line(text_of(data), UTC, datetime(2026, 11, 23, tzinfo=UTC)),
            [sample("loft.audit.log").split(b"\n")[0]],
        ),
        "web logs": (
            lambda data: parse_web_line(text_of(data), "/dav/"),
            [sample("meadow.access.log").split(b"\n")[0]],
        ),
        "sign-ins": (lambda data: parse_sign_in(data.ljust(384, b"\0")[:384], is_refused=False), [bytes(384)]),
        "json logs": (
            file_of(".json", lambda path: list(exports.rows_of(path, log))),
            [rows, b'{"rows": ' + rows + b"}"],
        ),
        "csv logs": (
            file_of(".csv", lambda path: list(exports.rows_of(path, log))),
            [b"when,who,did,path\n2026-11-23,a,read,/a\n"],
        ),
        "xml logs": (
            file_of(".xml", lambda path: list(exports.rows_of(path, log))),
            [b"<log><row><when>2026-11-23</when><who>a</who></row></log>"],
        ),
        "steps": (file_of(".json", lambda path: read_steps(str(path))), [(folder / "steps.json").read_bytes()]),
    }
    for name in MODELS:
        found[f"lists ({name})"] = evaluated(name), [_BODIES[name]]
    reader, first = rezipped(lambda data: read_answer(data, "x"), book())
    found["parts of workbooks"] = reader, [first]
    found["counts"] = lambda data: read_carried(io.BytesIO(data), "x"), [carried]
    reader, first = rezipped(lambda data: read_carried(io.BytesIO(data), "x"), carried)
    found["parts of counts"] = reader, [first]
    return found


def sddl_body() -> bytes:
    """Return a descriptor's bytes."""
    return pack_descriptor(sddl.descriptor_from_sddl("O:BAG:SYD:PAI(A;OICI;0x1301bf;;;WD)(D;;FA;;;BU)"))


_DAV = b"""<?xml version="1.0"?><D:multistatus xmlns:D="DAV:"><D:response><D:href>/dav/a/</D:href><D:propstat><D:prop>
<D:resourcetype><D:collection/></D:resourcetype><D:getcontentlength>5</D:getcontentlength>
<D:quota-used-bytes>5</D:quota-used-bytes><D:getlastmodified>Mon, 23 Nov 2026 10:00:00 GMT</D:getlastmodified>
<D:acl><D:ace><D:principal><D:all/></D:principal><D:grant><D:privilege><D:read/></D:privilege></D:grant></D:ace></D:acl>
</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response></D:multistatus>"""
_SIGNATURE = b"""-----BEGIN SSH SIGNATURE-----
U1NIU0lHAAAAAQAAADMAAAALc3NoLWVkMjU1MTkAAAAgk0a6sIJqTtN2mJIVwK3Tk6xIHoxe
AAAAAW4AAAAAAAAABnNoYTUxMgAAAFMAAAALc3NoLWVkMjU1MTkAAABA
-----END SSH SIGNATURE-----
"""
_ATTRIBUTE = bytes.fromhex("0200000001000700ffffffff02000500f903000004000500ffffffff10000500ffffffff20000500ffffffff")
_BODIES = {
    "nt": nt.pack_body(unpack_descriptor(sddl_body())),
    "posix": posix.pack_body(0o750, 1000, posixacl.entries_from_attribute(_ATTRIBUTE)),
    "nfs4": nfs4.pack_body("11", nfs4acl.entries_from_text("A:fd:OWNER@:rwaDdxtTnNcCoy,D::7:w,A:g:11:rx")),
    "role": b"u\t+\t7\t0\ta\na\t-\t7\t0\t",
}


class Slow(BaseException):
    """An input took longer than anybody waits."""


def _too_slow(*_: object) -> None:
    raise Slow


def feed(name: str, reader: Reader, seeds: list[bytes], number: int, seed: int) -> list[str]:
    """Feed so many inputs to a reader; returns what went wrong, a line each."""
    faults: dict[str, str] = {}
    signal.signal(signal.SIGALRM, _too_slow)
    for turn in range(number):
        rng = random.Random(f"{seed} {name} {turn}")
        data = spoil(rng, rng.choice(seeds))
        signal.setitimer(signal.ITIMER_REAL, SECONDS)
        try:
            reader(data)
        except (NeatError, Lost):
            pass
        except (Exception, Slow) as error:
            last = traceback.extract_tb(error.__traceback__)[-1]
            kind = f"{type(error).__name__} at {'/'.join(Path(last.filename).parts[-2:])}:{last.lineno}"
            faults.setdefault(kind, f"{name}: {kind}: {str(error)[:80]} (--seed {seed}, input {turn}: {data[:60]!r})")
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)
    return list(faults.values())


def main(words: list[str] | None = None) -> int:
    """Feed every reader, and print what went wrong; returns 1 where anything did."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--number", type=int, default=2000, help="inputs for each reader")
    parser.add_argument("--only", default="", help="readers of this name")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--office", type=Path, default=Path("demo-office"), help="the sample office")
    args: Any = parser.parse_args(words)
    before = resource.getrlimit(resource.RLIMIT_AS)
    folder = Path(tempfile.mkdtemp())
    faults = []
    try:
        found = readers(args.office, folder)
        # A command ends soon and does without; this goes on.
        gc.enable()
        resource.setrlimit(resource.RLIMIT_AS, (MEMORY + (1 << 29), before[1]))
        for name, (reader, seeds) in found.items():
            if args.only in name:
                begun = time.monotonic()
                wrong = feed(name, partial(reader), seeds, args.number, args.seed)
                faults += wrong
                print(f"{name:20} {args.number:8,} inputs {time.monotonic() - begun:8.1f} s {len(wrong):4} faults")
    finally:
        resource.setrlimit(resource.RLIMIT_AS, before)
        shutil.rmtree(folder)
    print("\n".join(faults))
    return 1 if faults else 0


if __name__ == "__main__":
    raise SystemExit(main())
