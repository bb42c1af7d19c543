"""What a column of words costs to describe under each reading: bits, on one scale for all types and widths.

A column is one value's words in sample after sample. Its description is its first value, then how it moved. The right
reading needs the fewest bits: the wrong order of bytes or words makes small steps large, the halves of a float are a
number that nobody measures and noise, the upper half of a counter is a register that never moves. How it moved is
reported in the cheapest of the ways in which values of plants do: not at all, by small steps, about a middle, only
upwards, by the bits of a status word. What is like noise over all that a register holds is unlikely to be a value.
"""

from collections.abc import Sequence
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from kanaleto.values import weights
from kanaleto.values.types import ByteOrder, Kind, ValueType, byte_places

Bits = NDArray[np.float64]
Numbers = NDArray[np.int64]
Words = NDArray[np.uint8]
"""Samples by bytes: one row a sample, two bytes a register, as they came."""

IMPOSSIBLE = 1e6
_MOST_DECIMALS = 4


class Shape(IntEnum):
    """How a column moved."""

    ZERO = 0
    STILL = 1
    MEASURED = 2
    RISING = 3
    STATES = 4
    NOISE = 5


KINDS = tuple(weights.TYPES.against)
REGISTERS = {kind: ValueType(kind).registers for kind in KINDS}
_FLOATS = (Kind.FLOAT32, Kind.FLOAT64)
_SIGNED = (Kind.INT16, Kind.INT32, Kind.INT64)


class Column:
    """All values of one kind and order, one beginning at each register: `cost` in bits, `shape`, and the `first` number
    of each."""

    def __init__(self, samples: Words, kind: Kind, order: ByteOrder) -> None:
        self.kind, self.order = kind, order
        self.registers = REGISTERS[kind]
        raw = _in_order(samples, kind, order)
        is_right = np.ones(raw.shape[1], bool)
        if kind in _FLOATS:
            steps, first, is_right = _of_floats(raw, kind)
        else:
            numbers, is_right = _of_numbers(raw, kind)
            steps, first = numbers, _first_of_whole(numbers[0].astype(np.float64), 16 * self.registers)
        self.first: Bits = steps[0].astype(np.float64)
        self.is_below_zero = (steps < 0).any(axis=0) if kind in _SIGNED else np.zeros(steps.shape[1], bool)
        move, self.shape = _movement(steps, raw, 16 * self.registers)
        if self.registers == 1:
            first = np.where(self.shape == Shape.STATES, np.minimum(first, weights.TYPES.pattern), first)
        prior, by_shape = weights.TYPES.against[kind]
        against = np.array(by_shape)[self.shape]
        noise = np.where(self.shape == Shape.NOISE, weights.TYPES.noise * max(len(samples) - 1, 0), 0.0)
        hurry = _hurry(steps, self.shape, 16 * self.registers)
        self.of_first: Bits = first
        if kind in _SIGNED and self.registers == 1:  # what never moves and is below zero is seldom a value
            first = first + np.where((self.shape == Shape.STILL) & (self.first < 0), weights.TYPES.below_zero, 0.0)
        self.cost: Bits = np.where(is_right, prior + against + first + move + noise + hurry, IMPOSSIBLE)


def _in_order(samples: Words, kind: Kind, order: ByteOrder) -> NDArray[np.uint64]:
    """The raw number that begins at each register, most significant byte first."""
    registers = REGISTERS[kind]
    count = samples.shape[1] // 2 - registers + 1
    raw = np.zeros((len(samples), max(count, 0)), np.uint64)
    if count <= 0:
        return raw
    for place in byte_places(ValueType(kind), order):
        raw = (raw << np.uint64(8)) | samples[:, place : place + 2 * count - 1 : 2].astype(np.uint64)
    return raw


def _of_numbers(raw: NDArray[np.uint64], kind: Kind) -> tuple[Numbers, NDArray[np.bool_]]:
    width = 16 * REGISTERS[kind]
    is_right = np.ones(raw.shape[1], bool)
    if kind in _SIGNED:
        whole = raw.astype(np.int64)
        signed = whole if width == 64 else np.where(whole >> (width - 1) & 1, whole - (1 << width), whole)
        return signed, is_right
    if kind in (Kind.BCD16, Kind.BCD32):
        value = np.zeros(raw.shape, np.int64)
        for at in range(width - 4, -1, -4):
            digit = (raw >> np.uint64(at)) & np.uint64(15)
            is_right &= (digit <= 9).all(axis=0)
            value = value * 10 + digit.astype(np.int64)
        return value, is_right
    if kind is Kind.MODULO2:
        high, low = raw >> np.uint64(16), raw & np.uint64(0xFFFF)
        is_right &= ((high <= 9999) & (low <= 9999)).all(axis=0)
        return (high * np.uint64(10000) + low).astype(np.int64), is_right
    return raw.view(np.int64), is_right & (raw < np.uint64(1 << 63)).all(axis=0)


def _of_floats(raw: NDArray[np.uint64], kind: Kind) -> tuple[Numbers, Bits, NDArray[np.bool_]]:
    """Steps are counted in the last decimal where all samples have few of them, else in last places."""
    if kind is Kind.FLOAT32:
        with np.errstate(all="ignore"):
            value = raw.astype(np.uint32).view(np.float32).astype(np.float64)
        ordered, mantissa = raw.astype(np.int64), 23.0
        below_zero = (1 << 31) - ordered
    else:
        value = raw.view(np.float64)
        ordered, mantissa = raw.view(np.int64), 52.0
        below_zero = np.iinfo(np.int64).min - ordered
    with np.errstate(all="ignore"):
        is_right = np.isfinite(value).all(axis=0)
        value = np.where(np.isfinite(value), value, 0.0)
        size = np.abs(value)
        largest = size.max(axis=0)
        is_tiny = (size > 0) & (size < 1e-30)
        is_right &= ~is_tiny.any(axis=0) & (largest < 1e30)
        places = np.where(value < 0, below_zero, ordered)
        decimals = _decimals(value, kind)
        whole = decimals <= _MOST_DECIMALS
        steps = np.where(whole, np.rint(value * 10.0 ** np.minimum(decimals, _MOST_DECIMALS)).astype(np.int64), places)
        first = value[0]
        exponent = np.log2(np.where(largest > 0, largest, 1.0))
        beyond = np.maximum(0.0, np.maximum(-10 - exponent, exponent - 20))
        digits = np.log2(1 + np.abs(first) * 10.0 ** np.minimum(decimals, _MOST_DECIMALS))
        weight, most = weights.TYPES, weights.TYPES.mantissa + mantissa
        decimal = weight.decimal + weight.decimal_digit * digits
        decimal = decimal + weight.decimal_place * np.minimum(decimals, _MOST_DECIMALS)
        cost = np.where(whole, np.minimum(decimal, most), most) + weight.far_exponent * beyond
        cost = np.where(largest == 0, weight.zero, cost)
    return steps, cost, is_right


def _decimals(value: Bits, kind: Kind) -> Bits:
    """Digits behind the point that every sample of a column does with; more than the most where it takes more."""
    found = np.full(value.shape[1], _MOST_DECIMALS + 1.0)
    for digits in range(_MOST_DECIMALS, -1, -1):
        near = np.round(value, digits)
        same = near == value if kind is Kind.FLOAT64 else near.astype(np.float32) == value.astype(np.float32)
        is_all = same.all(axis=0) & (np.abs(value).max(axis=0) * 10.0**digits < 1e7)
        found = np.where(is_all, digits, found)
    return found


def _first_of_whole(first: Bits, width: int) -> Bits:
    """Small numbers and round ones need few bits."""
    weight = weights.TYPES
    size = np.log2(1 + np.abs(first))
    bits = size + np.log2(1 + size) + weight.of_length + (first < 0)
    if width == 32:
        bits = bits + weight.very_wide * np.maximum(size - 27, 0.0)
    if width == 64:
        bits = size + weight.long_length + weight.very_long * np.maximum(size - 48, 0.0)
    shortest = np.minimum(bits, width + 1.0) if width == 16 else bits
    for zeros in (1, 2, 3):
        is_round = (first != 0) & (np.mod(first, 10**zeros) == 0)
        shortest = np.where(
            is_round, np.minimum(shortest, bits - weight.round_digit * zeros + weight.round_named), shortest
        )
    return np.where(first == 0, weight.zero, np.maximum(shortest, weight.least))


def _movement(numbers: Numbers, raw: NDArray[np.uint64], width: int) -> tuple[Bits, NDArray[np.int64]]:
    """Bits for how each column moved, and its shape."""
    count, columns = numbers.shape
    weight, room = weights.TYPES, weights.TYPES.room
    steps = (numbers - numbers[0]).astype(np.float64)  # exact where it moves little, however large it is
    if count < 2:
        shape = np.where((numbers == 0).all(axis=0), int(Shape.ZERO), int(Shape.STILL))
        return np.zeros(columns), shape.astype(np.int64)
    with np.errstate(all="ignore"):
        moves = np.diff(steps, axis=0)
        n = count - 1
        size = np.abs(moves)
        has_moved = moves != 0
        times = has_moved.sum(axis=0)
        when = n * _entropy(times / n)
        mean = size.sum(axis=0) / np.maximum(times, 1)
        by_steps = when + times * np.log2(2 * np.e * (mean + room)) - weight.step_sign * times
        middle = np.median(steps, axis=0)
        spread = np.abs(steps - middle).mean(axis=0)
        about = n * np.log2(2 * np.e * (spread + room))
        least = np.minimum(by_steps, about)
        rises = (moves >= 0).all(axis=0) & (times > 0)
        pace = np.median(moves, axis=0)
        uneven = np.abs(moves - pace)
        odd = (uneven != 0).sum(axis=0)
        by_pace = n * _entropy(odd / n) + np.log2(1 + np.abs(pace))
        by_pace = by_pace + odd * np.log2(2 * np.e * (uneven.sum(axis=0) / np.maximum(odd, 1) + room))
        upward = np.minimum(by_pace, by_steps - times)
        states = _states(raw) if width == 16 else np.full(columns, IMPOSSIBLE)
        noise = np.full(columns, float(n * width))
        costs = np.stack([least, np.where(rises, upward, IMPOSSIBLE), states + weight.of_states, noise]) + weight.model
        best = costs.argmin(axis=0)
        shape = np.array([Shape.MEASURED, Shape.RISING, Shape.STATES, Shape.NOISE])[best]
        cost = np.take_along_axis(costs, best[None, :], axis=0)[0]
        is_noisy = (shape == Shape.MEASURED) & (least > n * (width - weight.noise_width)) & (times > n / 2)
        shape = np.where(is_noisy, int(Shape.NOISE), shape)
        is_still = times == 0
        shape = np.where(is_still, np.where(numbers[0] == 0, int(Shape.ZERO), int(Shape.STILL)), shape)
    return np.where(is_still, 0.0, cost), shape.astype(np.int64)


def _hurry(steps: Numbers, shape: NDArray[np.int64], width: int) -> Bits:
    """What speaks against a counter that would soon be full."""
    if len(steps) < 2:
        return np.zeros(steps.shape[1])
    pace = np.abs((steps[-1] - steps[0]).astype(np.float64)) / (len(steps) - 1)
    soon = np.maximum(np.log2(1 + pace) - (width - 16), 0.0)
    return np.where(shape == Shape.RISING, weights.TYPES.hurry * soon, 0.0)


def _states(raw: NDArray[np.uint64]) -> Bits:
    """As the few states of a status word: the bits in which each differs, then which of them when."""
    count, columns = raw.shape
    ordered = np.sort(raw, axis=0)
    distinct = 1 + (np.diff(ordered.astype(np.float64), axis=0) != 0).sum(axis=0)
    flips = np.zeros((count, columns))
    changed = raw ^ raw[0]
    for bit in range(16):
        flips += (changed >> np.uint64(bit)) & np.uint64(1)
    moved = np.diff(raw.astype(np.float64), axis=0) != 0
    share = moved.sum(axis=0) / max(count - 1, 1)
    listed = distinct * (weights.TYPES.state + weights.TYPES.state_bit * flips.max(axis=0))
    which = moved.sum(axis=0) * np.log2(np.maximum(distinct, 2)) + (count - 1) * _entropy(share)
    return np.where((distinct <= 6) & (flips.max(axis=0) <= 4), listed + which, IMPOSSIBLE)


def _entropy(share: Bits) -> Bits:
    inside = np.clip(share, 1e-9, 1 - 1e-9)
    return np.where((share <= 0) | (share >= 1), 0.0, -inside * np.log2(inside) - (1 - inside) * np.log2(1 - inside))


def matrix(samples: Sequence[bytes]) -> Words:
    """Samples of one length as a matrix of bytes."""
    return np.frombuffer(b"".join(samples), np.uint8).reshape(len(samples), -1)
