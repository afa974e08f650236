"""Messages between the replay process and its client: MessagePack, with arrays as they are."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np

_ARRAY = 1


class _Array(msgspec.Struct, array_like=True):
    dtype: str
    shape: tuple[int, ...]
    data: bytes


class Request(msgspec.Struct):
    """Run `function` of `module` on the session. Arguments are plain values and arrays."""

    module: str
    function: str
    arguments: dict[str, Any]


class Reply(msgspec.Struct):
    """Either progress, or the end of a job: a result or an error."""

    done: bool
    what: str = ""
    part: float = 0.0
    result: Any = None
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


_encoder = msgspec.msgpack.Encoder(enc_hook=_encode_extra)
_request = msgspec.msgpack.Decoder(Request, ext_hook=_decode_extra)
_reply = msgspec.msgpack.Decoder(Reply, ext_hook=_decode_extra)


def encode(message: Request | Reply) -> bytes:
    return _encoder.encode(message)


def decode_request(data: bytes) -> Request:
    return _request.decode(data)


def decode_reply(data: bytes) -> Reply:
    return _reply.decode(data)
