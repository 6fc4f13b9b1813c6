"""Counts made elsewhere: the same answers as if gathered here, whole or not at all, once, signed by known keys."""

from __future__ import annotations

import hashlib
import io
import json
import random
import re
import shutil
import subprocess
import zipfile
import zlib
from pathlib import Path

import pytest
from ruamel.yaml import YAML

from conftest import ANY, COMMAND
from neatledger.errors import FormatError
from neatledger.formats.signature import fingerprint, sign, signer_of
from neatledger.ledger.carried import NAMESPACE

DAY = ("--today", "2026-11-29")


def key_of(folder: Path, kind: str, password: str = "") -> tuple[Path, str]:
    name = folder / f"key-{kind}{len(password)}"
    subprocess.run(["ssh-keygen", "-q", "-t", kind, "-N", password, "-f", name], check=True, capture_output=True)
    return name, name.with_suffix(".pub").read_text().strip()


@pytest.fixture
def site(demo: Path, tmp_path: Path) -> Path:
    """A place with the systems' part of the plan and what they are read from, and no ledger."""
    folder = tmp_path / "site"
    shutil.copytree(demo, folder, ignore=shutil.ignore_patterns("ledger.db*", "barn"))
    plan = YAML().load((demo / "office.yaml").read_text())
    systems = {name: dict(one) for name, one in plan["systems"].items()}
    for one in systems.values():
        one.pop("protection", None), one.pop("service", None)
        one["privileges"] = {}
    with (folder / "office.yaml").open("w") as out:
        YAML().dump({"office": plan["office"], "systems": systems}, out)
    return folder


def test_a_taken_count_answers_as_if_it_had_been_gathered_here(demo: Path, site: Path, tmp_path: Path, run) -> None:
    here, there = tmp_path / "here", tmp_path / "there"
    shutil.copytree(demo, here), shutil.copytree(demo, there)
    # The site's part of the plan says less than the office's: both read by the same one.
    shutil.copy(demo / "office.yaml", site / "office.yaml")
    run("count", "--no-check", "--quiet", "--office", here, *DAY)
    file = tmp_path / "site.count"
    run("count", "--export", file, "--office", site, *DAY)
    assert not (site / "ledger.db").exists() and file.stat().st_mode & 0o777 == 0o600
    assert "signed by nobody" in run("ledger", "--import", file, "--office", there, *DAY).stderr
    # Logs are read by gather alone, and no part of a count.
    run("count", "--logs", "--office", there, *DAY, status=None)
    for words in (
        ("reach",), ("space", "barn:/", "--depth", "all", "--by", "kind"), ("who", "barn:/Payroll"), ("reach", "finch"), ("links",), ("people", "--accounts"), ("ledger", "--not-seen", "barn"),
        ("check", "--all"), ("space", "--by", "version",), ("protect", "--all"), ("limits",), ("people", "--guests",),
    ):  # fmt: skip
        told = [run(*words, "--format", "csv", "--office", one, *DAY, status=None).stdout for one in (here, there)]
        assert told[0] == told[1].replace(str(site), str(here)), words
    assert "everything is as it was written" in run("ledger", "--verify", "--office", there).stdout
    newest = json.loads(run("ledger", "--format", "json", "--office", there).stdout)["rows"][0]
    assert newest["origin"] == hashlib.sha256(zipfile.ZipFile(file).read("manifest.json")).hexdigest()
    again = run("ledger", "--import", file, "--office", there, *DAY, status=2)
    assert "was taken before" in again.stderr
    run("ledger", "--remove", newest["count"], "--yes", "--office", there)
    run("ledger", "--import", file, "--office", there, *DAY)


def test_a_file_that_is_not_as_it_was_written_is_not_taken(demo: Path, site: Path, tmp_path: Path, run) -> None:
    file, bad = tmp_path / "a.count", tmp_path / "bad.count"
    run("count", "--export", file, "--office", site, *DAY)
    before = run("ledger", "--format", "csv", "--office", demo).stdout
    whole = file.read_bytes()
    rng = random.Random(7)
    spoiled = [whole[: rng.randrange(len(whole))] for _ in range(12)] + [b"", b"PK\5\6" + bytes(18)]
    for _ in range(40):
        at = rng.randrange(len(whole))
        spoiled.append(whole[:at] + bytes([whole[at] ^ 1 << rng.randrange(8)]) + whole[at + 1 :])
    taken = 0
    for data in spoiled:
        bad.write_bytes(data)
        done = run("ledger", "--import", bad, "--office", demo, *DAY, status=ANY)
        if done.returncode != 2:
            # A bit that says nothing, such as a date in the archive: what was taken is the same.
            newest = json.loads(run("ledger", "--format", "json", "--office", demo).stdout)["rows"][0]
            assert newest["origin"] == hashlib.sha256(zipfile.ZipFile(file).read("manifest.json")).hexdigest()
            run("ledger", "--remove", newest["count"], "--yes", "--office", demo)
            taken += 1
        else:
            assert len(done.stderr.strip().splitlines()) == 1, done.stderr
        assert run("ledger", "--format", "csv", "--office", demo).stdout == before
    assert taken < 20
    # Somebody who makes digests anew: what does not fit together is found all the same.
    for place, edit in [
        ("0/folders.parent/0", lambda data: _packed(data, "i4", lambda some: some[::-1])),
        ("0/folders.list/0", lambda data: _packed(data, "i4", lambda some: some + 10**6)),
        ("0/classes.files/0", lambda data: _packed(data, "i4", lambda some: some[:-1])),
        ("0/rows.json", lambda data: data.replace(b'"accounts":[[', b'"accounts":[["x",')),
        ("0/rows.json", lambda data: data.replace(b'"accounts":[[0,', b'"accounts":[["; DROP TABLE counts; --",')),
        ("0/rows.json", lambda data: b"[" * 100_000),
        ("0/folders.name/0", lambda data: b"not packed at all"),
    ]:
        made = _with_part(whole, place, edit)
        bad.write_bytes(made)
        done = run("ledger", "--import", bad, "--office", demo, *DAY, status=2)
        assert len(done.stderr.strip().splitlines()) == 1, done.stderr
        assert run("ledger", "--format", "csv", "--office", demo).stdout == before


def test_a_count_that_lacks_a_part_or_explodes_is_not_taken(demo: Path, site: Path, tmp_path: Path, run) -> None:
    file, bad = tmp_path / "a.count", tmp_path / "bad.count"
    run("count", "--export", file, "--office", site, *DAY)
    whole, before = file.read_bytes(), run("ledger", "--format", "csv", "--office", demo).stdout
    with zipfile.ZipFile(file) as archive:
        names = [name for name in archive.namelist() if name != "manifest.json"]
        manifest = json.loads(archive.read("manifest.json"))
    bombs = {
        # Of nothing, packed a thousand times: as a part, in the chunks of columns, as the manifest, and as told.
        "as a part": _with_part(whole, "0/rows.json", lambda _: bytes(70 << 20)),
        "in a chunk": _with_part(whole, "0/folders.parent/0", lambda _: zlib.compress(bytes(70 << 20))),
        "of names": _with_part(whole, "0/folders.name/0", lambda _: zlib.compress(bytes(300 << 20), 1)),
        "as the manifest": _archive({**dict.fromkeys(names, b""), "manifest.json": bytes(70 << 20)}),
    }
    for size in (1_500_000_000, 1 << 62, -1, "12"):
        manifest["parts"]["0/rows.json"][0] = size
        bombs[f"told as {size}"] = _archive(
            {**dict.fromkeys(names, b""), "manifest.json": json.dumps(manifest).encode()}
        )
    parts = [name for name in names if not name.endswith("/shared")]
    cut = {name: _with_part(whole, name, lambda _: None) for name in random.Random(7).sample(parts, 24)}
    for what, data in (*cut.items(), *bombs.items()):
        bad.write_bytes(data)
        words = [COMMAND, "ledger", "--import", bad, "--office", demo, *DAY]
        if what in bombs:
            # Neither a gigabyte of memory nor five seconds of a processor (setrlimit(2)).
            words = ["prlimit", "--as=1000000000", "--cpu=5", *words]
            done = subprocess.run(words, capture_output=True, text=True, check=False)
        else:
            done = run(*words[1:], status=2)
        assert done.returncode == 2 and len(done.stderr.strip().splitlines()) == 1, (what, done.stderr)
        assert "memory" not in done.stderr and "the ledger is damaged" not in done.stderr, (what, done.stderr)
        assert run("ledger", "--format", "csv", "--office", demo).stdout == before, what


def _archive(parts: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in parts.items():
            archive.writestr(name, data)
    return out.getvalue()


def _packed(data: bytes, dtype: str, edit) -> bytes:
    import numpy as np

    return zlib.compress(edit(np.frombuffer(zlib.decompress(data), dtype)).tobytes())


def _with_part(whole: bytes, name: str, edit) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(whole)) as old, zipfile.ZipFile(out, "w") as new:
        manifest = json.loads(old.read("manifest.json"))
        for one in old.namelist():
            data = edit(old.read(one)) if one == name else old.read(one)
            if data is None:
                del manifest["parts"][one]
            elif one in manifest["parts"]:
                manifest["parts"][one] = [len(data), hashlib.sha256(data).hexdigest()]
                new.writestr(one, data, zipfile.ZIP_DEFLATED)
        new.writestr("manifest.json", json.dumps(manifest))
    return out.getvalue()


def test_only_those_whom_the_plan_names_may_sign(demo: Path, site: Path, tmp_path: Path, run, monkeypatch) -> None:
    good, public = key_of(tmp_path, "ed25519")
    other, _ = key_of(tmp_path, "rsa", "pass word")
    monkeypatch.setenv("NEATLEDGER_PASSWORD_KEY", "pass word")
    files = {}
    for name, words in (("good", ["--key", good]), ("other", ["--key", other]), ("nobody", [])):
        files[name] = tmp_path / f"{name}.count"
        run("count", "loft" if name == "nobody" else "barn", "--export", files[name], *words, "--office", site, *DAY)
    office = tmp_path / "office"
    shutil.copytree(demo, office)
    plan = office / "office.yaml"
    text = plan.read_text()
    plan.write_text(f"signers: {{site: {{key: {public}, systems: [barn, loft]}}}}\n" + text)
    for name, said in (("other", "by a key that the plan does not name"), ("nobody", "signed by nobody")):
        assert said in run("ledger", "--import", files[name], "--office", office, status=2).stderr
    # The signature of one file over another.
    with zipfile.ZipFile(files["good"]) as signed, zipfile.ZipFile(files["nobody"], "a") as forged:
        forged.writestr("manifest.json.sig", signed.read("manifest.json.sig"))
    assert (
        "signature does not hold" in run("ledger", "--import", files["nobody"], "--office", office, status=2).stderr
    )
    assert "signed by site;" in run("ledger", "--import", files["good"], "--office", office).stderr
    newest = json.loads(run("ledger", "--format", "json", "--office", office).stdout)["rows"][0]
    assert newest["signer"] == "site"
    # Whom a signature speaks for: these systems, and this office.
    for signer, said in (
        ("systems: [loft]", "site signed it, and speaks for loft, not for barn"),
        ("systems: [barn], office: Elsewhere", "and 'Elsewhere' was expected"),
    ):
        plan.write_text(f"signers: {{site: {{key: {public}, {signer}}}}}\n" + text)
        assert said in run("ledger", "--import", files["good"], "--office", office, status=2).stderr
    for wrong, said in (("systems: [attic]", "a system of this plan"), ("office: X", "systems")):
        plan.write_text(f"signers: {{site: {{key: {public}, {wrong}}}}}\n" + text)
        assert said in run("ledger", "--office", office, status=2).stderr
    # A system that the plan has not is not taken on.
    signers = f"signers: {{site: {{key: {public}, systems: [born]}}}}"
    plan.write_text(f"office: O\n{signers}\nsystems:\n  born: {{source: tree, path: barn}}\n")
    assert "no system of this plan" in run("ledger", "--import", files["good"], "--office", office, status=2).stderr
    assert (
        "cannot be used"
        in run("count", "barn", "--export", files["good"], "--key", plan, "--office", site, status=2).stderr
    )


def test_a_count_of_another_office_source_or_time_is_only_taken_by_its_word(
    demo: Path, site: Path, tmp_path: Path, run
) -> None:
    office, file, plan = tmp_path / "office", tmp_path / "a.count", site / "office.yaml"
    text = plan.read_text()
    tree = "office: Pellowmere Veterinary Practice\nsystems: {loft: {source: tree, path: .}}\n"
    name = YAML().load(text)["office"]
    for word, there, day, said in (
        ("office", text.replace(name, "Larkspur"), DAY[1], "it is of the office 'Larkspur'"),
        ("future", text, "2031-01-02", "it is dated 2031-01-02, in the future"),
        ("older", text, "2026-10-01", "before the newest count of barn"),
        ("source", tree.replace("Pellowmere Veterinary Practice", name), DAY[1], "loft was read there as tree"),
    ):
        shutil.rmtree(office, ignore_errors=True)
        shutil.copytree(demo, office)
        before = run("ledger", "--format", "csv", "--office", office).stdout
        plan.write_text(there)
        run(
            "count",
            "--allow",
            "future",
            *(["barn"] if word != "source" else []),
            "--export",
            file,
            "--office",
            site,
            "--today",
            day,
        )
        others = [one for one in ("office", "future", "older", "source") if one != word]
        for allowed in ([], [part for one in others for part in ("--allow", one)]):
            done = run("ledger", "--import", file, *allowed, "--office", office, status=2)
            assert said in done.stderr and f"--allow {word}" in done.stderr, done.stderr
            assert run("ledger", "--format", "csv", "--office", office).stdout == before
        run("ledger", "--import", file, "--allow", word, "--office", office)


@pytest.mark.parametrize("kind", ["ed25519", "rsa"])
def test_signatures_are_those_of_ssh_keygen_both_ways(tmp_path: Path, kind: str) -> None:
    key, public = key_of(tmp_path, kind)
    rng = random.Random(kind)
    for length in (0, 1, 300, 10_000):
        message = rng.randbytes(length)
        made = tmp_path / "made.sig"
        made.write_text(sign(key.read_bytes(), None, NAMESPACE, message))
        checked = ["ssh-keygen", "-Y", "check-novalidate", "-n", NAMESPACE, "-s", made]
        assert b"Good" in subprocess.run(checked, input=message, check=True, capture_output=True).stdout
        (tmp_path / "m").write_bytes(message)
        (tmp_path / "m.sig").unlink(missing_ok=True)
        subprocess.run(
            ["ssh-keygen", "-q", "-Y", "sign", "-f", key, "-n", NAMESPACE, tmp_path / "m"],
            check=True,
            capture_output=True,
        )
        theirs = (tmp_path / "m.sig").read_text()
        assert signer_of(theirs, NAMESPACE, message) == " ".join(public.split()[:2])
        for bad in (
            (theirs, "other", message),
            (theirs, NAMESPACE, message + b"x"),
            (theirs[:-40], NAMESPACE, message),
            ("", NAMESPACE, message),
        ):
            with pytest.raises(FormatError):
                signer_of(*bad)
        lines = theirs.splitlines()
        for _ in range(30):
            row = rng.randrange(1, len(lines) - 1)
            at = rng.randrange(len(lines[row]))
            other = lines[row][:at] + rng.choice("AZaz09+/") + lines[row][at + 1 :]
            if other != lines[row]:
                with pytest.raises(FormatError):
                    signer_of("\n".join([*lines[:row], other, *lines[row + 1 :]]), NAMESPACE, message)
    told = subprocess.run(["ssh-keygen", "-l", "-f", key], check=True, capture_output=True, text=True).stdout
    assert re.search(r"SHA256:\S+", told)[0] == fingerprint(public)


def test_one_line_of_shell_brings_a_count_over(site: Path, demo: Path, tmp_path: Path, start) -> None:
    file = tmp_path / "over.count"
    with file.open("wb") as out:
        words = [COMMAND, "count", "barn", "--export", "-", "--office", site, *DAY]
        subprocess.run(words, check=True, stdout=out, stderr=subprocess.DEVNULL)
    assert zipfile.is_zipfile(file)
    start("ledger", "--import", file, "--office", demo, *DAY)
