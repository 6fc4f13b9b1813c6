"""Somebody between the tool and a real server: what each side sends goes through a function, which may change it."""

from __future__ import annotations

import socket
import ssl
import struct
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

Change = Callable[[bytes], bytes | None]
"""What becomes of a message: itself, another one, or None: it is never passed on."""


def frames(stream: socket.socket) -> Iterator[bytes]:
    """Yield the messages of SMB over TCP (MS-SMB2 2.1), each without its length."""
    while len(head := _take(stream, 4)) == 4:
        yield _take(stream, struct.unpack(">L", head)[0])


def chunks(stream: socket.socket) -> Iterator[bytes]:
    """Yield what comes, in the pieces it comes in."""
    while data := stream.recv(65536):
        yield data


def _take(stream: socket.socket, size: int) -> bytes:
    data = b""
    while len(data) < size and (more := stream.recv(size - len(data))):
        data += more
    return data


def framed(data: bytes) -> bytes:
    """Return a message with its length before it."""
    return struct.pack(">L", len(data)) + data


def _connected(target: tuple[str, int] | str) -> socket.socket:
    if not isinstance(target, str):
        return socket.create_connection(target)
    made = socket.socket(socket.AF_UNIX)
    made.connect(target)
    return made


@contextmanager
def between(
    target: tuple[str, int] | str,
    answers: Change,
    *,
    is_framed: bool = False,
    certificate: tuple[str, str] | None = None,
) -> Iterator[int]:
    """Yield the port of a relay to a server, by its address or its socket's path; `answers` changes what it says.

    With a certificate and its key TLS is spoken to whoever asks, and none to the server.
    """
    parted, joined = (frames, framed) if is_framed else (chunks, bytes)

    def pump(source: socket.socket, sink: socket.socket, change: Change) -> None:
        with suppress(OSError, ValueError):
            for data in parted(source):
                changed = change(data)
                if changed is not None:
                    sink.sendall(joined(changed))
        for end in (source, sink):
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def join(near: socket.socket) -> None:
        try:
            if certificate is not None:
                context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
                context.load_cert_chain(*certificate)
                near = context.wrap_socket(near, server_side=True)
            far = _connected(target)
        except OSError:
            near.close()
            return
        with near, far:
            back = threading.Thread(target=pump, args=(near, far, lambda data: data), daemon=True)
            back.start()
            pump(far, near, answers)
            back.join(5)

    with _listening(join) as port:
        yield port


@contextmanager
def proxy(ways: dict[str, int]) -> Iterator[tuple[int, list[bytes]]]:
    """Yield the port of an HTTP proxy and all that it is told; ``CONNECT host:443`` goes to a port of this machine."""
    told: list[bytes] = []

    def pass_on(near: socket.socket) -> None:
        with suppress(OSError), near:
            request = b""
            while b"\r\n\r\n" not in request and (more := near.recv(65536)):
                request += more
            told.append(request)
            host = request.split(b" ")[1].decode().partition(":")[0] if request.startswith(b"CONNECT ") else ""
            if host not in ways:
                near.sendall(b"HTTP/1.1 502 no such way\r\nContent-Length: 0\r\n\r\n")
                return
            with socket.create_connection(("127.0.0.1", ways[host])) as far:
                near.sendall(b"HTTP/1.1 200 go on\r\n\r\n")
                back = threading.Thread(target=copy, args=(far, near), daemon=True)
                back.start()
                copy(near, far)
                back.join(5)

    def copy(source: socket.socket, sink: socket.socket) -> None:
        with suppress(OSError):
            for data in chunks(source):
                sink.sendall(data)
            sink.shutdown(socket.SHUT_WR)

    with _listening(pass_on) as port:
        yield port, told


@contextmanager
def _listening(serve: Callable[[socket.socket], None]) -> Iterator[int]:
    """Yield a port of this machine; whoever comes there is served in a thread of their own."""
    listening = socket.create_server(("127.0.0.1", 0))

    def meet() -> None:
        while True:
            try:
                near, _ = listening.accept()
            except OSError:
                return
            threading.Thread(target=serve, args=(near,), daemon=True).start()

    threading.Thread(target=meet, daemon=True).start()
    try:
        yield listening.getsockname()[1]
    finally:
        with suppress(OSError):
            listening.shutdown(socket.SHUT_RDWR)
        listening.close()
