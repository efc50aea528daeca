"""Cyclic redundancy checks of any width up to 64 bits, by the parameters of the Rocksoft model (Williams, 1993).

All are computed as reflected ones: a CRC that is not reflected is the mirror image of one whose bytes, polynomial and
start are mirrored. Where zlib or binascii have one, they do the work. The catalogue holds published parameter sets;
each is checked by its value over the nine bytes “123456789”.
"""

from __future__ import annotations

import binascii
import zlib
from collections.abc import Iterable, Mapping
from functools import lru_cache
from types import MappingProxyType
from typing import NamedTuple

from faithful_ledger.core.bit_order import mirrored, mirrored_bytes

__all__ = ["CATALOGUE", "Crc"]

SMALL = 1 << 10  # bytes that are not worth folding


class Crc(NamedTuple):
    """`polynomial` without its highest term, in the usual order; `reflected` says of the bytes going in whether the
    lowest bit comes first, `reflected_out` of the result.
    """

    width: int
    polynomial: int
    start: int = 0
    reflected: bool = False
    reflected_out: bool = False
    xor_out: int = 0

    def __call__(self, chunks: Iterable[memoryview]) -> int:
        state = mirrored(self.start, self.width)
        for chunk in chunks:
            state = self.run(chunk, state)
        return self.finished(state)

    def finished(self, state: int) -> int:
        """The result of a state, which is that of the reflected computation."""
        return (state if self.reflected_out else mirrored(state, self.width)) ^ self.xor_out

    def state_of(self, result: int) -> int:
        """The state that has a result."""
        state = result ^ self.xor_out
        return state if self.reflected_out else mirrored(state, self.width)

    @property
    def is_quick(self) -> bool:
        """Whether zlib does the work."""
        return self.width == 32 and self.polynomial == 0x04C11DB7

    def run(self, chunk: memoryview, state: int) -> int:
        """The state after some bytes more."""
        if self.is_quick:
            data = chunk if self.reflected else mirrored_bytes(bytes(chunk))
            return zlib.crc32(data, state ^ 0xFFFFFFFF) ^ 0xFFFFFFFF
        if self.width == 16 and self.polynomial == 0x1021:
            data = mirrored_bytes(bytes(chunk)) if self.reflected else chunk
            return mirrored(binascii.crc_hqx(data, mirrored(state, 16)), 16)
        data = bytes(chunk) if self.reflected else mirrored_bytes(bytes(chunk))
        return _state_after(data, state, mirrored(self.polynomial, self.width), self.width)


def _state_after(data: bytes, state: int, polynomial: int, width: int) -> int:
    if len(data) > SMALL:
        from faithful_ledger.core.seals.gf2 import folded

        first, whole = int.from_bytes(data[:8], "little") ^ state, len(data) & ~7
        data = folded(first.to_bytes(8, "little") + data[8:whole], polynomial, width) + data[whole:]
        state = 0
    table = _table(polynomial)
    for byte in data:
        state = state >> 8 ^ table[(state ^ byte) & 255]
    return state


@lru_cache(maxsize=64)
def _table(polynomial: int) -> tuple[int, ...]:
    """What each byte does to a state, as Sarwate (1988) tabulated it."""
    table = []
    for byte in range(256):
        for _ in range(8):
            byte = byte >> 1 ^ (polynomial if byte & 1 else 0)
        table.append(byte)
    return tuple(table)


def _ones(width: int) -> int:
    return (1 << width) - 1


def _set(width: int, polynomial: int, start: int, both: bool, xor_out: int) -> Crc:
    return Crc(width, polynomial, start, both, both, xor_out)


F, T = False, True
CATALOGUE: Mapping[str, tuple[Crc, int]] = MappingProxyType(
    {
        "crc-8": (_set(8, 0x07, 0, F, 0), 0xF4),
        "crc-8-itu": (_set(8, 0x07, 0, F, 0x55), 0xA1),
        "crc-8-rohc": (_set(8, 0x07, 0xFF, T, 0), 0xD0),
        "crc-8-maxim": (_set(8, 0x31, 0, T, 0), 0xA1),
        "crc-8-nrsc-5": (_set(8, 0x31, 0xFF, F, 0), 0xF7),
        "crc-8-j1850": (_set(8, 0x1D, 0xFF, F, 0xFF), 0x4B),
        "crc-8-tech-3250": (_set(8, 0x1D, 0xFF, T, 0), 0x97),
        "crc-8-i-code": (_set(8, 0x1D, 0xFD, F, 0), 0x7E),
        "crc-8-autosar": (_set(8, 0x2F, 0xFF, F, 0xFF), 0xDF),
        "crc-8-opensafety": (_set(8, 0x2F, 0, F, 0), 0x3E),
        "crc-8-cdma2000": (_set(8, 0x9B, 0xFF, F, 0), 0xDA),
        "crc-8-wcdma": (_set(8, 0x9B, 0, T, 0), 0x25),
        "crc-8-lte": (_set(8, 0x9B, 0, F, 0), 0xEA),
        "crc-8-darc": (_set(8, 0x39, 0, T, 0), 0x15),
        "crc-8-dvb-s2": (_set(8, 0xD5, 0, F, 0), 0xBC),
        "crc-8-bluetooth": (_set(8, 0xA7, 0, T, 0), 0x26),
        "crc-16-arc": (_set(16, 0x8005, 0, T, 0), 0xBB3D),
        "crc-16-modbus": (_set(16, 0x8005, 0xFFFF, T, 0), 0x4B37),
        "crc-16-usb": (_set(16, 0x8005, 0xFFFF, T, 0xFFFF), 0xB4C8),
        "crc-16-maxim": (_set(16, 0x8005, 0, T, 0xFFFF), 0x44C2),
        "crc-16-buypass": (_set(16, 0x8005, 0, F, 0), 0xFEE8),
        "crc-16-cms": (_set(16, 0x8005, 0xFFFF, F, 0), 0xAEE7),
        "crc-16-dds-110": (_set(16, 0x8005, 0x800D, F, 0), 0x9ECF),
        "crc-16-xmodem": (_set(16, 0x1021, 0, F, 0), 0x31C3),
        "crc-16-ccitt-false": (_set(16, 0x1021, 0xFFFF, F, 0), 0x29B1),
        "crc-16-spi-fujitsu": (_set(16, 0x1021, 0x1D0F, F, 0), 0xE5CC),
        "crc-16-genibus": (_set(16, 0x1021, 0xFFFF, F, 0xFFFF), 0xD64E),
        "crc-16-gsm": (_set(16, 0x1021, 0, F, 0xFFFF), 0xCE3C),
        "crc-16-kermit": (_set(16, 0x1021, 0, T, 0), 0x2189),
        "crc-16-x-25": (_set(16, 0x1021, 0xFFFF, T, 0xFFFF), 0x906E),
        "crc-16-mcrf4xx": (_set(16, 0x1021, 0xFFFF, T, 0), 0x6F91),
        "crc-16-tms37157": (_set(16, 0x1021, 0x89EC, T, 0), 0x26B1),
        "crc-16-riello": (_set(16, 0x1021, 0xB2AA, T, 0), 0x63D0),
        "crc-16-crc-a": (_set(16, 0x1021, 0xC6C6, T, 0), 0xBF05),
        "crc-16-dnp": (_set(16, 0x3D65, 0, T, 0xFFFF), 0xEA82),
        "crc-16-en-13757": (_set(16, 0x3D65, 0, F, 0xFFFF), 0xC2B7),
        "crc-16-t10-dif": (_set(16, 0x8BB7, 0, F, 0), 0xD0DB),
        "crc-16-teledisk": (_set(16, 0xA097, 0, F, 0), 0x0FB3),
        "crc-16-cdma2000": (_set(16, 0xC867, 0xFFFF, F, 0), 0x4C06),
        "crc-16-dect": (_set(16, 0x0589, 0, F, 0), 0x007F),
        "crc-16-profibus": (_set(16, 0x1DCF, 0xFFFF, F, 0xFFFF), 0xA819),
        "crc-16-opensafety-a": (_set(16, 0x5935, 0, F, 0), 0x5D38),
        "crc-16-opensafety-b": (_set(16, 0x755B, 0, F, 0), 0x20FE),
        "crc-16-m17": (_set(16, 0x5935, 0xFFFF, F, 0), 0x772B),
        "crc-16-lj1200": (_set(16, 0x6F63, 0, F, 0), 0xBDF4),
        "crc-16-nrsc-5": (_set(16, 0x080B, 0xFFFF, T, 0), 0xA066),
        "crc-24-openpgp": (_set(24, 0x864CFB, 0xB704CE, F, 0), 0x21CF02),
        "crc-24-lte-a": (_set(24, 0x864CFB, 0, F, 0), 0xCDE703),
        "crc-24-lte-b": (_set(24, 0x800063, 0, F, 0), 0x23EF52),
        "crc-24-ble": (_set(24, 0x00065B, 0x555555, T, 0), 0xC25A56),
        "crc-24-flexray-a": (_set(24, 0x5D6DCB, 0xFEDCBA, F, 0), 0x7979BD),
        "crc-24-flexray-b": (_set(24, 0x5D6DCB, 0xABCDEF, F, 0), 0x1F23B8),
        "crc-24-interlaken": (_set(24, 0x328B63, _ones(24), F, _ones(24)), 0xB4F3E6),
        "crc-32": (_set(32, 0x04C11DB7, _ones(32), T, _ones(32)), 0xCBF43926),
        "crc-32-jamcrc": (_set(32, 0x04C11DB7, _ones(32), T, 0), 0x340BC6D9),
        "crc-32-bzip2": (_set(32, 0x04C11DB7, _ones(32), F, _ones(32)), 0xFC891918),
        "crc-32-mpeg-2": (_set(32, 0x04C11DB7, _ones(32), F, 0), 0x0376E6E7),
        "crc-32-cksum": (_set(32, 0x04C11DB7, 0, F, _ones(32)), 0x765E7680),
        "crc-32c": (_set(32, 0x1EDC6F41, _ones(32), T, _ones(32)), 0xE3069283),
        "crc-32-base91-d": (_set(32, 0xA833982B, _ones(32), T, _ones(32)), 0x87315576),
        "crc-32-autosar": (_set(32, 0xF4ACFB13, _ones(32), T, _ones(32)), 0x1697D06A),
        "crc-32q": (_set(32, 0x814141AB, 0, F, 0), 0x3010BF7F),
        "crc-32-xfer": (_set(32, 0x000000AF, 0, F, 0), 0xBD0BE338),
        "crc-32-cd-rom-edc": (_set(32, 0x8001801B, 0, T, 0), 0x6EC2EDC4),
        "crc-32-mef": (_set(32, 0x741B8CD7, _ones(32), T, 0), 0xD2C22F51),
        "crc-64": (_set(64, 0x42F0E1EBA9EA3693, 0, F, 0), 0x6C40DF5F0B497347),
        "crc-64-we": (_set(64, 0x42F0E1EBA9EA3693, _ones(64), F, _ones(64)), 0x62EC59E3F1A4F00A),
        "crc-64-xz": (_set(64, 0x42F0E1EBA9EA3693, _ones(64), T, _ones(64)), 0x995DC9BBDF1939FA),
        "crc-64-go-iso": (_set(64, 0x1B, _ones(64), T, _ones(64)), 0xB90956C775A41001),
        "crc-64-redis": (_set(64, 0xAD93D23594C935A9, 0, T, 0), 0xE9C6D914C4B8D9CA),
    }
)
"""Parameter sets by name, each with its value over “123456789”."""
