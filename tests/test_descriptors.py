"""NT descriptors and NFSv4 lists: text and binary come back, parsing is total, inheritance and pushing down."""

from __future__ import annotations

import re
import struct
from dataclasses import replace

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from neatledger.core.lists import nfs4, nt
from neatledger.core.lists.contract import Maker
from neatledger.core.lists.descriptors import (
    CALLBACK_TYPES,
    OBJECT_TYPES,
    Ace,
    AceType,
    Acl,
    Descriptor,
    ace_of_body,
    body_of_ace,
    pack_acl,
    pack_descriptor,
    pack_sid,
    split_acl,
    unpack_descriptor,
)
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.rights import Right
from neatledger.errors import FormatError
from neatledger.formats import nfs4acl
from neatledger.formats.sddl import descriptor_from_sddl, descriptor_to_sddl
from strategies import NAMES, SID_USERS, WORLDS, descriptors, nfs4_entries

NT, NFS4 = nt.NtModel(), nfs4.Nfs4Model()


@given(descriptors())
def test_descriptors_come_back_from_binary_and_from_text(found) -> None:
    data = pack_descriptor(found)
    again = unpack_descriptor(data)
    assert pack_descriptor(again) == data
    text = descriptor_to_sddl(again)
    read = descriptor_from_sddl(text)
    assert descriptor_to_sddl(read) == text
    assert (read.owner, read.group, read.control) == (again.owner, again.group, again.control)
    assert again.dacl is None or read.dacl.aces == again.dacl.aces
    body = nt.pack_body(again)
    assert nt.pack_body(nt.unpack_body(body)) == body and len(NT.parse(body).describe(NAMES)) >= 1


@given(nfs4_entries())
def test_nfs4_text_comes_back(entries) -> None:
    assert nfs4acl.entries_from_text(nfs4acl.entries_to_text(entries)) == entries
    body = nfs4.pack_body("21", entries)
    assert nfs4.pack_body("21", list(NFS4.parse(body).entries)) == body


SDDL_PIECES = st.lists(
    st.sampled_from(
        ["O:", "G:", "D:", "S:", "P", "AI", "AR", "BA", "DU", "S-1-5-32-544", "S-1-5", "(", ")", "A", "XA", "OA", ";", "OICI",
         "FA", "0x1", "0xfffffffff", "089", "WD", '"', "(a==1)", "#15:00:ff", "#00", " ", "NO_ACCESS_CONTROL", "é", "\n"]
    ),
    max_size=25,
).map("".join)  # fmt: skip


@given(SDDL_PIECES | st.text(max_size=60))
@example("D:(" * 500)
@example("D:(XA;;FR;;;WD;(a == " + "{" * 5000 + "))")
@example("D:(XA;;FR;;;WD;" + "(!" * 3000 + "a" + ")" * 3000 + ")")
def test_sddl_parsing_is_total(text) -> None:
    try:
        found = descriptor_from_sddl(text)
    except FormatError as error:
        assert re.search(r"character \d+|identifier", str(error))
    else:
        assert descriptor_to_sddl(descriptor_from_sddl(descriptor_to_sddl(found))) == descriptor_to_sddl(found)


@given(st.binary(max_size=80), descriptors(), st.data())
def test_binary_parsing_is_total(noise, found, data) -> None:
    whole = bytearray(pack_descriptor(found))
    for _ in range(data.draw(st.integers(0, 4))):
        whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
    cut = bytes(whole[: data.draw(st.integers(0, len(whole)))])
    for damaged in (noise, bytes(whole), cut, whole[:4] + noise):
        try:
            read = unpack_descriptor(bytes(damaged))
            NT.parse(nt.pack_body(read)).describe(NAMES)
            descriptor_to_sddl(read)
        except FormatError as error:
            assert str(error)
    for model in (NT, NFS4):
        try:
            model.parse(noise).describe(NAMES)
        except FormatError as error:
            assert str(error)


@given(st.text(max_size=60) | st.from_regex(r"([ADULX]?:[fdnigSF]*:(OWNER@|11|x):[rwaxdDtTnNcCoyRWX0-9]*,?){0,3}"))
def test_nfs4_parsing_is_total(text) -> None:
    try:
        entries = nfs4acl.entries_from_text(text)
    except FormatError as error:
        assert "entry" in str(error)
    else:
        assert nfs4acl.entries_from_text(nfs4acl.entries_to_text(entries)) == entries


def test_a_list_of_1800_entries_and_a_descriptor_of_64_kb() -> None:
    aces = tuple(Ace(n % 2, 0, 1 << n % 9, f"S-1-5-21-7-7-7-{n}") for n in range(1800))
    found = Descriptor(SID_USERS[0], "", Acl(aces))
    data = pack_descriptor(found)
    assert len(data) > 64_000 and unpack_descriptor(data).dacl == found.dacl
    assert descriptor_from_sddl(descriptor_to_sddl(found)).dacl == found.dacl
    parsed = NT.parse(nt.pack_body(found))
    people = [Holder("x", f"S-1-5-21-7-7-7-{n}", NT.everyone_has) for n in range(300)]
    sets = parsed.decide_all(Crowd(people), is_folder=True)[0]
    assert sets[Right.LIST] == sum(1 << n for n in range(300) if n % 18 == 0)
    with pytest.raises(FormatError, match="more than a list can hold"):
        pack_descriptor(replace(found, dacl=Acl(aces + aces)))


def test_identifiers_of_a_domain_need_the_domain() -> None:
    with pytest.raises(FormatError, match="DU depends on a domain"):
        descriptor_from_sddl("D:(A;;FA;;;DU)")
    assert descriptor_from_sddl("D:(A;;FA;;;DU)", "S-1-5-21-1-2-3").dacl.aces[0].sid == "S-1-5-21-1-2-3-513"


@given(st.data(), st.sampled_from(WORLDS), st.booleans())
def test_pushing_down_is_idempotent_and_keeps_what_it_should(data, world, keeps_own) -> None:
    model = world.model
    above, child = data.draw(world.bodies), data.draw(world.bodies)
    owner, is_folder = data.draw(st.sampled_from(world.users)), data.draw(st.booleans())
    once = model.pushed(above, child, owner, keeps_own=keeps_own, is_folder=is_folder)
    assert model.pushed(above, once, owner, keeps_own=keeps_own, is_folder=is_folder) == once
    if keeps_own and model.name != "posix":
        assert set(model.parse(child).view(is_folder=is_folder).own) <= set(
            model.parse(once).view(is_folder=is_folder).own
        )
    elif model.name == "nt" and nt.unpack_body(above).dacl is not None:
        # A replaced child has what a new one of the same owner would have, but where nothing is passed on.
        maker = Maker(owner, nt.unpack_body(child).group)
        fresh = NT.parse(NT.new_child(above, None, maker, is_folder=is_folder))
        if any(ace.flags & 0x10 for ace in fresh.aces):
            assert NT.parse(once).aces == fresh.aces


def test_the_mode_that_a_list_comes_to() -> None:
    def mode(text: str) -> str:
        return f"{nfs4.mode_of(NFS4.parse(nfs4.pack_body('21', nfs4acl.entries_from_text(text)))):03o}"

    assert mode("A::OWNER@:rwax,A::GROUP@:rx,A::EVERYONE@:r") == "754"
    assert mode("D::GROUP@:r,A::EVERYONE@:rwa") == "626"
    assert mode("A::OWNER@:rw,A::11:rwax") == "400", "writing wants appending too, and named ones do not count"


names = st.sampled_from(["Title", "@User.Project", "@Resource.Level", "@Device.Site", "clearance:a"])
literals = st.recursive(
    st.sampled_from(['"VP"', '"a b"', "SID(BA)", "SID(S-1-5-21-1-2-3-4)", "0x1f", "017", "-3", "+4", "0", "#0aff"]),
    lambda inner: st.lists(inner, max_size=3).map(lambda parts: "{" + ", ".join(parts) + "}"),
    max_leaves=4,
)
tests = st.one_of(
    names,
    st.builds(
        "{} {} {}".format, names, st.sampled_from(["==", "!=", "<=", ">", "Contains", "Not_Any_of"]), literals | names
    ),
    st.builds("{} {}".format, st.sampled_from(["Member_of", "Not_Device_Member_of_Any"]), literals),
    st.builds("Exists {}".format, names),
)
conditions = st.recursive(
    tests,
    lambda inner: (
        st.builds("({} {} {})".format, inner, st.sampled_from(["&&", "||"]), inner) | st.builds("!({})".format, inner)
    ),
    max_leaves=6,
)


@given(conditions)
def test_conditions_come_back_from_binary(text) -> None:
    first = descriptor_from_sddl(f"D:(XA;;FR;;;WD;({text}))")
    data = pack_descriptor(first)
    told = descriptor_to_sddl(unpack_descriptor(data))
    assert "#09" not in told and pack_descriptor(descriptor_from_sddl(told)) == data
    assert descriptor_to_sddl(descriptor_from_sddl(told)) == told


def test_a_condition_is_compiled_as_the_specification_has_it() -> None:
    """MS-DTYP 2.4.4.17.9, the example with a title and a project: tokens in postfix order, padded to four bytes."""
    found = descriptor_from_sddl(
        'D:(XA;;FX;;;S-1-1-0;(@User.Title=="PM" && (@User.Division=="Finance" || @User.Division=="Sales")))'
    )
    data = found.dacl.aces[0].data
    title, division = "Title".encode("utf-16-le"), "Division".encode("utf-16-le")
    tokens = [b"artx", b"\xf9\x0a\0\0\0" + title, b"\x10\x04\0\0\0P\0M\0\x80", b"\xf9\x10\0\0\0" + division]
    assert data.startswith(b"".join(tokens)) and data.rstrip(b"\0").endswith(b"\x80\xa1\xa0") and len(data) % 4 == 0


@given(st.text(alphabet='()!&|={}",@User.Title01x#SID<> ', max_size=40), st.binary(max_size=40))
def test_condition_parsing_is_total(text, noise) -> None:
    try:
        descriptor_from_sddl(f"D:(XA;;FR;;;WD;({text}))")
    except FormatError as error:
        assert "character" in str(error) or "identifier" in str(error)
    odd = Descriptor("", "", Acl((Ace(9, 0, 1, "S-1-1-0", data=b"artx" + noise),)))
    assert pack_descriptor(descriptor_from_sddl(descriptor_to_sddl(odd))) == pack_descriptor(odd)


def test_types_of_entries_are_sorted_as_their_names_say() -> None:
    named = {name: value for name, value in vars(AceType).items() if not name.startswith("_")}
    assert {value for name, value in named.items() if "CALLBACK" in name} == CALLBACK_TYPES
    assert {value for name, value in named.items() if "OBJECT" in name} == OBJECT_TYPES
    assert sorted(named.values()) == list(range(20))


@pytest.mark.parametrize("size", range(8, 28))
def test_a_list_cut_anywhere_is_refused(size: int) -> None:
    whole = pack_acl(Acl((Ace(0, 0, 1, "S-1-5-18"),)))
    assert len(split_acl(whole)[1]) == 1 and len(whole) == 28
    # The list itself says that it ends there, and still promises an entry.
    shorter = whole[:2] + struct.pack("<H", size) + whole[4:]
    for data in (shorter, shorter[:size]):
        with pytest.raises(FormatError, match="entry 1 of 1"):
            split_acl(data)


def test_who_is_named_is_shown_with_what_they_have_as_others() -> None:
    named, owners = Ace(0, 0, 0x1200A9, SID_USERS[0]), Ace(0, 0, 0x1F01FF, "S-1-3-4")
    view = NT.parse(nt.pack_body(Descriptor("", "", Acl((owners, named))))).view(is_folder=True)
    assert set(view.either) == {SID_USERS[0]} and not view.either[SID_USERS[0]] & Right.MANAGE
    assert view.everyone == Right.NONE and not view.is_plain


@pytest.mark.parametrize(("flags", "identifiers"), [(0, 0), (1, 16), (2, 16), (3, 32)])
def test_an_object_entry_names_whom_it_names_behind_its_identifiers(flags: int, identifiers: int) -> None:
    body = struct.pack("<II", 0x1200A9, flags) + b"\x07" * identifiers + pack_sid(SID_USERS[0])
    ace = ace_of_body(AceType.ALLOW_OBJECT, 0, body)
    assert ace.sid == SID_USERS[0] and ace.raw is None and body_of_ace(ace) == body
    assert ace_of_body(AceType.ALLOW_OBJECT, 0, body[:-1]).raw == body[:-1], "cut short: kept as it came"
