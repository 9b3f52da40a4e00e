"""Tokens of services: from an environment variable, or from the keyring of the desktop. They are written nowhere else."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from eskret.core.files.state_file import change_state
from eskret.core.files.user_state import data_place
from eskret.errors import InputError
from eskret.services import practice

_NAME = "eskret"


def origin_of(address: str) -> str:
    """Scheme, host and port of an address: what a token is kept for."""
    try:
        parts = urlsplit(address.strip())
        host, port = parts.hostname or "", parts.port
    except ValueError:  # such as http://[::1
        return address.strip().lower()
    shown = f"[{host}]" if ":" in host else host
    return f"{parts.scheme}://{shown}{f':{port}' if port else ''}".lower()


def is_local(address: str) -> bool:
    """Whether an address is on this machine."""
    try:
        host = urlsplit(address.strip()).hostname or ""
    except ValueError:
        return False
    return host in ("localhost", "127.0.0.1", "::1")


def token_for(address: str, variable: str = "") -> str:
    """The token for a service: that of the variable, where one is named; else that of a practice server that runs here, or the
    one in the keyring; else none.

    Raises
    ------
    InputError : the variable is not set, or the keyring cannot be read.
    """
    if variable:
        token = os.environ.get(variable, "")
        if not token:
            raise InputError(
                f"there is no token in the environment variable '{variable}'", place=address, way_out="Set it before starting Eskret"
            )
        return token
    if is_local(address):
        for server in practice.running():
            if origin_of(server.address) == origin_of(address):
                return server.token
    if origin_of(address) in kept():
        return _keyring("get_password", address, _NAME, origin_of(address)) or ""
    return ""


def keep(address: str, token: str) -> None:
    """Keep a token for a service in the keyring.

    Raises
    ------
    InputError : there is no keyring that can be used.
    """
    _keyring("set_password", address, _NAME, origin_of(address), token)
    _remember(lambda known: known | {origin_of(address)})


def forget(address: str) -> bool:
    """Take a token out of the keyring again; whether there was one.

    Raises
    ------
    InputError : there is no keyring that can be used.
    """
    if origin_of(address) not in kept():
        return False
    _keyring("delete_password", address, _NAME, origin_of(address))
    _remember(lambda known: known - {origin_of(address)})
    return True


def kept() -> list[str]:
    """The services for which a token is in the keyring. Only for these it is asked, since that can take a while."""
    try:
        told = json.loads(_list().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return []
    found = told.get("services") if isinstance(told, dict) else told  # it was a bare list once
    return [str(o) for o in found] if isinstance(found, list) else []


def _list() -> Path:
    return data_place("services-with-token.json")


def _remember(change: Callable[[set[str]], set[str]]) -> None:
    change_state(_list(), lambda known: known.update(services=sorted(change(set(kept())))))


def _keyring(what: str, address: str, *words: str) -> Any:
    import keyring
    from keyring.errors import KeyringError

    try:
        return getattr(keyring, what)(*words)
    except (KeyringError, OSError, RuntimeError) as error:
        raise InputError(
            f"the keyring of this desktop cannot be used ({type(error).__name__})",
            place=address,
            way_out="Unlock it, or name an environment variable that holds the token",
        ) from error
