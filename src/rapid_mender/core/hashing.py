"""A 64-bit hash per row, over any columns, computed whole columns at a time.

Each value becomes one or more 64-bit words; the words are mixed in with a multiply and an xor-shift,
finished as in SplitMix64 (Steele, Lea, Flood: "Fast splittable pseudorandom number generators", 2014).
The seed is drawn anew for each run, so nobody can prepare records that collide.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.types as pt

from .cast import as_text

_U = np.uint64
_ODD = _U(0x9E3779B97F4A7C15)
_BLOCK = 32_768  # rows whose intermediate results stay in the processor's cache
_NULL = _U(0xD1B54A32D192ED03)
_LONG = 4096  # bytes of a text from which on its words are mixed in all at once


def hash_rows(columns: list[pa.Array], seed: int) -> np.ndarray:
    """One uint64 for each row of `columns` (arrays of one length). Null is a value like any other."""
    out = np.full(len(columns[0]), _U(seed & 0xFFFFFFFFFFFFFFFF), dtype=np.uint64)
    for start in range(0, len(out), _BLOCK):
        for values in columns:
            _mix_in(out[start : start + _BLOCK], values.slice(start, _BLOCK), seed)
    return out


def _mix_in(state: np.ndarray, values: pa.Array, seed: int) -> None:
    if pt.is_string(values.type) or pt.is_binary(values.type):
        hashed = _hash_bytes(values, state, seed)
    else:
        hashed = state
        for words in _words(values, seed):
            hashed = _mix(hashed, words)
    if values.null_count:
        null = values.is_null().to_numpy(zero_copy_only=False)
        hashed = np.where(null, _mix(state, _NULL), hashed)
    state[:] = hashed


def _mix(state: np.ndarray, words: np.ndarray | np.uint64) -> np.ndarray:
    z = (state ^ words) + _ODD
    z ^= z >> _U(30)
    z *= _U(0xBF58476D1CE4E5B9)
    z ^= z >> _U(27)
    z *= _U(0x94D049BB133111EB)
    z ^= z >> _U(31)
    return z


def _words(values: pa.Array, seed: int) -> list[np.ndarray]:
    """A fixed-width array as 64-bit words; two values that are equal in SQL have equal words."""
    kind = values.type
    if pt.is_null(kind):
        return [np.zeros(len(values), np.uint64)]
    if pt.is_boolean(kind):
        return [values.fill_null(False).cast(pa.uint8()).to_numpy().astype(np.uint64)]
    if pt.is_decimal(kind):
        count = kind.byte_width // 8
        whole = np.frombuffer(values.buffers()[1], np.uint64).reshape(-1, count)
        whole = whole[values.offset : values.offset + len(values)]
        return [whole[:, i] for i in range(count)]
    if pt.is_floating(kind):
        numbers = values.cast(pa.float64()).fill_null(0.0).to_numpy() + 0.0  # -0.0 becomes 0.0
        numbers[np.isnan(numbers)] = np.nan
        return [numbers.view(np.uint64)]
    if pt.is_integer(kind):
        return [values.fill_null(0).to_numpy().astype(np.int64, copy=False).view(np.uint64)]
    if pt.is_temporal(kind) and kind.bit_width in (32, 64):
        ints = values.view(pa.int32() if kind.bit_width == 32 else pa.int64())
        return [ints.fill_null(0).to_numpy().astype(np.int64, copy=False).view(np.uint64)]
    return [_hash_bytes(as_text(values)[0], np.zeros(len(values), np.uint64), seed)]


def _hash_bytes(values: pa.Array, state: np.ndarray, seed: int) -> np.ndarray:
    """Mix texts in, eight bytes at a step; the loop runs over the length of the longest text, not over the rows."""
    _, offset_buffer, data = values.buffers()
    offsets = np.frombuffer(offset_buffer, np.int32)[values.offset : values.offset + len(values) + 1]
    starts, lengths = offsets[:-1].astype(np.int64), np.diff(offsets).astype(np.int64)
    state = _mix(state, lengths.view(np.uint64))
    if data is None or not len(lengths) or not lengths.max():
        return state
    begin, end = int(offsets[0]), int(offsets[-1]) - int(offsets[0])
    padded = np.zeros(end + 8, np.uint8)
    padded[:end] = np.frombuffer(data, np.uint8, end, begin)
    starts -= begin
    at_every_byte = np.ndarray((end + 1,), "<u8", padded, strides=(1,))
    long = np.flatnonzero(lengths > _LONG)
    whole = lengths.copy()
    lengths[long] = 0  # these are not taken step by step
    position = 0
    while len(rows := np.flatnonzero(lengths > position)):
        word = at_every_byte[starts[rows] + position]
        unused = np.clip(8 - (lengths[rows] - position), 0, 7).astype(np.uint64) * _U(8)
        state[rows] = _mix(state[rows], word & (~_U(0) >> unused))
        position += 8
    if not len(long):
        return state
    salts = _mix(
        np.arange((int(whole[long].max()) + 7) // 8, dtype=np.uint64), _U(~seed & 0xFFFFFFFFFFFFFFFF)
    )  # secret, as the seed is
    for row in long.tolist():
        state[row] = _hash_long(at_every_byte, int(starts[row]), int(whole[row]), salts, state[row])
    return state


def _hash_long(at_every_byte: np.ndarray, start: int, length: int, salts: np.ndarray, state: Any) -> Any:
    """Mix a long text in: each of its words is mixed with its place and the state, and they are added up."""
    total, state = np.zeros(1, np.uint64), np.full(1, state)
    for begin in range(0, (length + 7) // 8, _BLOCK):
        end = min(begin + _BLOCK, (length + 7) // 8)
        words = at_every_byte[start + 8 * begin : start + 8 * end : 8] ^ salts[begin:end]
        if 8 * end > length:  # what stands behind the text is not of it
            words[-1] = at_every_byte[start + 8 * (end - 1)] & (~_U(0) >> _U(8 * (8 * end - length)))
            words[-1] ^= salts[end - 1]
        total += _mix(words, state).sum(dtype=np.uint64)
    return _mix(state, total)[0]
