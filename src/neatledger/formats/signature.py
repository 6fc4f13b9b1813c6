"""Signatures by an SSH key over a text, as `ssh-keygen -Y sign` makes and `ssh-keygen -Y verify` checks them.

The form is SSHSIG (OpenSSH, PROTOCOL.sshsig), with keys of RFC 8709 (Ed25519) and RFC 8332 (RSA with SHA-2).
"""

from __future__ import annotations

import base64
import binascii
import hashlib
from collections.abc import Iterator
from typing import Any

from neatledger.errors import FormatError
from neatledger.extras import extras_for

__all__ = ["fingerprint", "is_locked", "key_words", "sign", "signer_of"]

_MAGIC, _VERSION = b"SSHSIG", 1
_BEGIN, _END = "-----BEGIN SSH SIGNATURE-----", "-----END SSH SIGNATURE-----"
_HASHES = {b"sha256": hashlib.sha256, b"sha512": hashlib.sha512}
_WIDTH = 70
_MOST = 65_536  # bytes; a signature of the largest key is far shorter


def sign(private_key: bytes, password: str | None, namespace: str, message: bytes) -> str:
    """Return the signature of a message; raises `FormatError` where the key cannot be used, `MissingPartError`."""
    with extras_for("signing"):
        if is_locked(private_key):
            import bcrypt  # noqa: F401  what opens a key asks for it
        from cryptography.exceptions import UnsupportedAlgorithm
        from cryptography.hazmat.primitives import hashes, serialization
        from cryptography.hazmat.primitives.asymmetric import ed25519, padding, rsa
    try:
        key = serialization.load_ssh_private_key(private_key, None if password is None else password.encode())
    except (ValueError, TypeError, UnsupportedAlgorithm) as error:
        raise FormatError(f"this SSH key cannot be used: {error}") from None
    public = _public_blob(key.public_key())
    signed = _signed_bytes(namespace.encode(), b"sha512", message)
    if isinstance(key, ed25519.Ed25519PrivateKey):
        made = _string(b"ssh-ed25519") + _string(key.sign(signed))
    elif isinstance(key, rsa.RSAPrivateKey):
        made = _string(b"rsa-sha2-512") + _string(key.sign(signed, padding.PKCS1v15(), hashes.SHA512()))
    else:
        raise FormatError("this kind of SSH key does not sign here: take one of Ed25519 or RSA")
    words = (public, namespace.encode(), b"", b"sha512", made)
    blob = _MAGIC + _VERSION.to_bytes(4, "big") + b"".join(map(_string, words))
    text = base64.b64encode(blob).decode()
    lines = [text[at : at + _WIDTH] for at in range(0, len(text), _WIDTH)]
    return "\n".join([_BEGIN, *lines, _END, ""])


def signer_of(signature: str, namespace: str, message: bytes) -> str:
    """Return the public key, as ``algorithm base64``, that made a signature; raises `FormatError` where none did."""
    with extras_for("signing"):
        from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
        from cryptography.hazmat.primitives import hashes, serialization
        from cryptography.hazmat.primitives.asymmetric import ed25519, padding, rsa
    public, space, _, hashed, made = _parts(_blob(signature))
    algorithm, raw = _strings(made, 2)
    if space != namespace.encode():
        raise FormatError("the signature was made for something else")
    signed = _signed_bytes(space, hashed, message)
    line = b" ".join((next(_read(public)), base64.b64encode(public)))
    try:
        key: Any = serialization.load_ssh_public_key(line)
        if isinstance(key, ed25519.Ed25519PublicKey) and algorithm == b"ssh-ed25519":
            key.verify(raw, signed)
        elif isinstance(key, rsa.RSAPublicKey) and algorithm in (b"rsa-sha2-512", b"rsa-sha2-256"):
            digest = hashes.SHA512() if algorithm.endswith(b"512") else hashes.SHA256()
            key.verify(raw, signed, padding.PKCS1v15(), digest)
        else:
            raise FormatError("a signature of a kind that is not known here")
    except InvalidSignature:
        raise FormatError("the signature does not fit what it is of") from None
    except (ValueError, UnsupportedAlgorithm) as error:
        raise FormatError(f"the key of the signature cannot be used: {error}") from None
    return line.decode("ascii")


def is_locked(private_key: bytes) -> bool:
    """Tell whether only a passphrase opens a key of OpenSSH (PROTOCOL.key: its cipher is not ``none``)."""
    lines = [line.strip() for line in private_key.splitlines() if line.strip() and not line.startswith(b"-----")]
    try:
        data = base64.b64decode(b"".join(lines))
        magic = b"openssh-key-v1\0"
        return data.startswith(magic) and next(_read(data[len(magic) :])) != b"none"
    except (binascii.Error, FormatError, StopIteration):
        return False


def key_words(public_key: str) -> str:
    """Return a public key as ``algorithm base64`` from a line as authorized_keys has it (sshd(8))."""
    words = public_key.split()
    if len(words) < 2 or not public_key.isascii():
        raise FormatError("an SSH public key is an algorithm and the key, as in: ssh-ed25519 AAAA…")
    return " ".join(words[:2])


def fingerprint(public_key: str) -> str:
    """Return the fingerprint of a public key, as `ssh-keygen -l` shows it; empty for none."""
    if not public_key:
        return ""
    digest = hashlib.sha256(base64.b64decode(public_key.split()[1])).digest()
    return f"SHA256:{base64.b64encode(digest).decode().rstrip('=')}"


def _signed_bytes(namespace: bytes, hashed: bytes, message: bytes) -> bytes:
    if hashed not in _HASHES:
        raise FormatError("the signature is over a digest that is not known here")
    words = (namespace, b"", hashed, _HASHES[hashed](message).digest())
    return _MAGIC + b"".join(map(_string, words))


def _public_blob(key: Any) -> bytes:
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    return base64.b64decode(key.public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).split()[1])


def _blob(signature: str) -> bytes:
    lines = [line.strip() for line in signature.strip().splitlines()]
    if len(signature) > _MOST or len(lines) < 3 or lines[0] != _BEGIN or lines[-1] != _END:
        raise FormatError("this is no SSH signature")
    try:
        return base64.b64decode("".join(lines[1:-1]), validate=True)
    except ValueError:  # of base64, and of letters that are none of it
        raise FormatError("this is no SSH signature") from None


def _parts(blob: bytes) -> list[bytes]:
    start = len(_MAGIC) + 4
    if blob[: len(_MAGIC)] != _MAGIC or blob[len(_MAGIC) : start] != _VERSION.to_bytes(4, "big"):
        raise FormatError("this is no SSH signature")
    return _strings(blob[start:], 5)


def _strings(data: bytes, number: int) -> list[bytes]:
    found = list(_read(data))
    if len(found) != number:
        raise FormatError("this is no SSH signature")
    return found


def _read(data: bytes) -> Iterator[bytes]:
    """Yield strings with their lengths before them (RFC 4251 section 5)."""
    at = 0
    while at < len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        if len(data) < at + 4 + length or len(data) < at + 4:
            raise FormatError("this is no SSH signature")
        yield data[at + 4 : at + 4 + length]
        at += 4 + length


def _string(data: bytes) -> bytes:
    return len(data).to_bytes(4, "big") + data
