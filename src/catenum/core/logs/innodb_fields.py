"""The fields of InnoDB's records as its status prints them: bytes in hex, told as the column's
value.
"""

from __future__ import annotations

import ipaddress
import re
import struct
import uuid
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime

#: Ends a field of which the server printed the first 30 bytes only.
CUT = "…"
#: Character sets by the names of the server, where Python has another name for them.
_CODECS = {
    "latin1": "cp1252",
    "latin2": "iso8859_2",
    "latin5": "iso8859_9",
    "latin7": "iso8859_13",
    "greek": "iso8859_7",
    "hebrew": "iso8859_8",
    "koi8r": "koi8_r",
    "koi8u": "koi8_u",
    "ucs2": "utf-16-be",
    "utf16": "utf-16-be",
    "utf16le": "utf-16-le",
    "utf32": "utf-32-be",
    "utf8mb3": "utf-8",
    "utf8mb4": "utf-8",
    "sjis": "shift_jis",
    "ujis": "euc_jp",
    "euckr": "euc_kr",
}


def decode(value: str | None, kind: str) -> str | None:
    """A field's hex as the column's value; None for NULL, hex again where it cannot be read.

    ``kind`` is the column's type as the server writes it, with its character set (``varchar(9)
    character set latin1``). A value that was printed in part ends with ``…``.
    """
    if value is None:
        return None
    whole = value.removesuffix(CUT)
    cut = CUT if whole != value else ""
    data = bytes.fromhex(whole)
    base = re.split(r"[ (]", kind.lower(), maxsplit=1)[0]
    reader = _READERS.get(base)
    try:
        if reader is not None:
            return reader(data, kind) + cut
    except (ValueError, IndexError, OverflowError, LookupError, struct.error):
        pass
    return "0x" + whole + cut


def key_fields(fields: Sequence[str | None]) -> int | None:
    """How many of a row's fields, in hex, are its primary key's: those before the number of the
    transaction that wrote it, of 6 bytes, and the roll pointer, of 7 ("InnoDB Row Formats"); None
    where that does not show.
    """
    sizes = [len(value or "") // 2 for value in fields]
    return next((at for at in range(1, len(sizes) - 1) if sizes[at : at + 2] == [6, 7]), None)


def _number(data: bytes) -> int:
    return int.from_bytes(data, "big")


_SIZES = {"tinyint": 1, "smallint": 2, "mediumint": 3, "int": 4, "bigint": 8}


def _integer(data: bytes, kind: str) -> str:
    if len(data) != _SIZES[re.split(r"[ (]", kind.lower(), maxsplit=1)[0]]:
        raise ValueError("not of this type")
    number = _number(data)
    return str(number if "unsigned" in kind.lower() else number - (1 << (8 * len(data) - 1)))


def _year(data: bytes, kind: str) -> str:
    return str(1900 + data[0]) if data[0] else "0000"


def _bit(data: bytes, kind: str) -> str:
    return str(_number(data))


def _real(data: bytes, kind: str) -> str:
    """In the machine's own order of bytes, which is the little-endian one."""
    if len(data) == 4:
        return f"{struct.unpack('<f', data)[0]:.7g}"
    return repr(struct.unpack("<d", data)[0])


def _string(data: bytes, kind: str) -> str:
    named = re.search(r"character set (\w+)", kind)
    codec = _CODECS.get(named[1], named[1]) if named else "utf-8"
    try:
        text = data.decode(codec)
    except UnicodeDecodeError as error:
        if len(data) < 30 or error.start < len(data) - 4:
            raise
        text = data[: error.start].decode(codec)  # cut within a character
    return text.rstrip(" ") if kind.lower().startswith("char") else text


def names_of(kind: str) -> list[str]:
    """The names of an ENUM or a SET, in order."""
    return [name.replace("''", "'") for name in re.findall(r"'((?:[^']|'')*)'", kind)]


def _enum(data: bytes, kind: str) -> str:
    number = _number(data)
    return names_of(kind)[number - 1] if number else ""


def _set(data: bytes, kind: str) -> str:
    number = _number(data)
    return ",".join(name for place, name in enumerate(names_of(kind)) if number >> place & 1)


def _date(data: bytes, kind: str) -> str:
    number = _number(data) - (1 << 23)
    return f"{number >> 9:04}-{number >> 5 & 15:02}-{number & 31:02}"


def _fraction(data: bytes, kind: str) -> str:
    """The part of a second in hundredths, ten-thousandths or millionths, as many digits as the
    column has.
    """
    if not data:
        return ""
    reported = re.search(r"\((\d)\)", kind)
    return "." + f"{_number(data):0{len(data) * 2}}"[: int(reported[1]) if reported else 6]


def _timestamp(data: bytes, kind: str) -> str:
    """Seconds since 1970 in UTC, then fractions."""
    moment = datetime.fromtimestamp(_number(data[:4]), UTC)
    return f"{moment:%Y-%m-%d %H:%M:%S}{_fraction(data[4:], kind)}+00"


def _time(data: bytes, kind: str) -> str:
    """Hour, minute, second in three bytes, then fractions; the whole has an offset, so that it
    sorts.
    """
    bits = 8 * (len(data) - 3)
    number = _number(data) - (1 << 23 + bits)
    clock = abs(number) >> bits
    rest = (abs(number) & ((1 << bits) - 1)).to_bytes(len(data) - 3, "big")
    sign = "-" if number < 0 else ""
    return f"{sign}{clock >> 12:02}:{clock >> 6 & 63:02}:{clock & 63:02}{_fraction(rest, kind)}"


def _datetime(data: bytes, kind: str) -> str:
    """The packed form of MySQL 5.6 and MariaDB 10.1 and later.

    Year*13+month, day, hour, minute, second, then fractions.
    """
    packed = int.from_bytes(data[:5], "big") - (1 << 39)
    months, rest = packed >> 22, packed & ((1 << 22) - 1)
    day, clock = rest >> 17, rest & ((1 << 17) - 1)
    text = (
        f"{months // 13:04}-{months % 13:02}-{day:02}"
        f" {clock >> 12:02}:{clock >> 6 & 63:02}:{clock & 63:02}"
    )
    return text + _fraction(data[5:], kind)


def _decimal(data: bytes, kind: str) -> str:
    """MariaDB's binary DECIMAL.

    Groups of nine digits in four bytes each, the first bit turned round, negatives inverted.
    """
    match = re.search(r"\((\d+)(?:,\s*(\d+))?\)", kind)
    precision, scale = (int(match[1]), int(match[2] or 0)) if match else (10, 0)
    negative = not data[0] & 0x80
    cells = bytearray(data)
    cells[0] ^= 0x80
    if negative:
        cells = bytearray(byte ^ 0xFF for byte in cells)
    sizes = (0, 1, 1, 2, 2, 3, 3, 4, 4, 4)
    whole, place = precision - scale, 0
    groups = ([whole % 9] if whole % 9 else []) + [9] * (whole // 9)
    parts = [9] * (scale // 9) + ([scale % 9] if scale % 9 else [])
    if sum(sizes[digits] for digits in (*groups, *parts)) != len(data):
        raise ValueError("not of this type")
    text = ""
    for digits in groups:
        text += f"{int.from_bytes(cells[place : place + sizes[digits]], 'big'):0{digits}}"
        place += sizes[digits]
    text = text.lstrip("0") or "0"
    if parts:
        text += "."
        for digits in parts:
            text += f"{int.from_bytes(cells[place : place + sizes[digits]], 'big'):0{digits}}"
            place += sizes[digits]
    return ("-" if negative else "") + text


def _uuid(data: bytes, kind: str) -> str:
    """Versions below 6 are stored with their last parts first, so that they sort by node and time
    (MariaDB documentation, "UUID Data Type").
    """
    if data[6] & 0x80 and 0 < data[8] < 0x60:
        data = data[12:] + data[10:12] + data[8:10] + data[6:8] + data[:6]
    return str(uuid.UUID(bytes=data))


def _inet(data: bytes, kind: str) -> str:
    return str(ipaddress.ip_address(data))


_READERS: Mapping[str, Callable[[bytes, str], str]] = {
    **dict.fromkeys(("tinyint", "smallint", "mediumint", "int", "bigint"), _integer),
    **dict.fromkeys(("char", "varchar", "text", "tinytext", "mediumtext", "longtext"), _string),
    **dict.fromkeys(("float", "double"), _real),
    **dict.fromkeys(("inet4", "inet6"), _inet),
    "year": _year,
    "bit": _bit,
    "enum": _enum,
    "set": _set,
    "date": _date,
    "time": _time,
    "datetime": _datetime,
    "timestamp": _timestamp,
    "decimal": _decimal,
    "uuid": _uuid,
}
