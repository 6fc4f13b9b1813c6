"""A WebDAV server that others wrote, on loopback."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager

from cheroot import wsgi
from wsgidav.fs_dav_provider import FilesystemProvider
from wsgidav.wsgidav_app import WsgiDAVApp

__all__ = ["app", "serving", "serving_app"]


def app(provider: FilesystemProvider, user: str, password: str) -> WsgiDAVApp:
    """Return what serves a provider's tree to one user, who signs in by Basic."""
    config = {
        "provider_mapping": {"/": provider},
        "simple_dc": {"user_mapping": {"*": {user: {"password": password}}}},
        "http_authenticator": {"accept_basic": True, "accept_digest": False, "default_to_digest": False},
        "logging": {"enable": False},
        "verbose": 0,
    }
    return WsgiDAVApp(config)


@contextmanager
def serving(provider: FilesystemProvider, user: str, password: str) -> Iterator[int]:
    """Serve what a provider has to one user; yield the port."""
    with serving_app(app(provider, user, password)) as port:
        yield port


@contextmanager
def serving_app(app: Callable[..., Iterable[bytes]]) -> Iterator[int]:
    """Serve any application on loopback; yield the port."""
    server = wsgi.Server(("127.0.0.1", 0), app)
    server.shutdown_timeout = 0
    server.prepare()
    thread = threading.Thread(target=server.serve, daemon=True)
    thread.start()
    try:
        yield server.bind_addr[1]
    finally:
        server.stop()
        thread.join()
