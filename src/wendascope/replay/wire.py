"""Messages between the replay process and its client: MessagePack, with arrays as they are."""

from __future__ import annotations

import typing
from typing import Any

import msgspec
import numpy as np

from wendascope.analysis.guidelines import Guidelines

_ARRAY = 1


class _Array(msgspec.Struct, array_like=True):
    dtype: str
    shape: tuple[int, ...]
    data: bytes


class Request(msgspec.Struct):
    """Run a job on the session; see `jobs`."""

    job: str
    arguments: bytes
    frame: int
    """Which of the file's frames, from 1."""
    guidelines: Guidelines | None = None
    """Those in force where the job is asked for: a confined process cannot read the user's own. None for the shipped
    ones.
    """


class Reply(msgspec.Struct):
    """Either progress, or the end of a job: a result or an error."""

    done: bool
    what: str = ""
    part: float = 0.0
    result: bytes = b""
    error: str = ""
    error_kind: str = ""
    trace: str = ""


def _encode_extra(value: Any) -> Any:
    if isinstance(value, np.ndarray):
        packed = msgspec.msgpack.encode(_Array(value.dtype.str, value.shape, np.ascontiguousarray(value).tobytes()))
        return msgspec.msgpack.Ext(_ARRAY, packed)
    if isinstance(value, np.generic):
        return value.item()
    raise TypeError(f"cannot send {type(value).__name__}")


def _decode_extra(code: int, data: memoryview) -> Any:
    if code != _ARRAY:
        raise ValueError("unknown extension in a message")
    array = msgspec.msgpack.decode(data, type=_Array)
    return np.frombuffer(array.data, np.dtype(array.dtype)).reshape(array.shape)


def _decode_typed(type_: Any, value: Any) -> Any:
    if type_ is np.ndarray or typing.get_origin(type_) is np.ndarray:
        if not isinstance(value, np.ndarray):
            raise ValueError("an array was expected")
        return value
    raise NotImplementedError(f"cannot receive {type_}")


_encoder = msgspec.msgpack.Encoder(enc_hook=_encode_extra)
_request = msgspec.msgpack.Decoder(Request)
_reply = msgspec.msgpack.Decoder(Reply)


def pack(value: Any) -> bytes:
    """A value of plain types, records and arrays. Raises TypeError for others."""
    return _encoder.encode(value)


def unpack(data: bytes, type_: Any) -> Any:
    """The value of a type that some bytes hold. Raises msgspec.MsgspecError or ValueError."""
    return msgspec.msgpack.decode(data, type=type_, ext_hook=_decode_extra, dec_hook=_decode_typed)


def encode(message: Request | Reply) -> bytes:
    """A whole message."""
    return _encoder.encode(message)


def decode_request(data: bytes) -> Request:
    """Raises msgspec.MsgspecError."""
    return _request.decode(data)


def decode_reply(data: bytes) -> Reply:
    """Raises msgspec.MsgspecError."""
    return _reply.decode(data)
