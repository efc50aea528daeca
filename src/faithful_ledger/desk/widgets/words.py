"""Technical names in the words of people."""

from __future__ import annotations

__all__ = ["evidence_in_words", "grouped", "storage_in_brief", "storage_in_words"]


def grouped(number: int) -> str:
    """A whole number with its digits in groups of three."""
    return f"{number:,}".replace(",", "\u202f")


def evidence_in_words(bits: float, by_chance: float) -> str:
    """How much speaks for a place, and how often chance would give another like it."""
    if by_chance >= 1:
        chance = f"chance alone gives about {by_chance:,.0f} like it" if by_chance < 1e6 else "it may be all chance"
    else:
        times = 1 / max(by_chance, 1e-15)
        chance = f"by chance once in {times:,.0f} saves" if times < 1e6 else "hardly by chance"
    return f"{bits:.0f} bits; {chance}"


def storage_in_words(name: str) -> str:
    """How a value is stored, for people who do not read u32le."""
    order = "low byte first" if name.endswith("le") else "high byte first" if name.endswith("be") else ""
    plain = name.removesuffix("le").removesuffix("be")
    if plain[:1] in "ui" and plain[1:].isdigit():
        size = int(plain[1:]) // 8
        sign = ", with a sign" if plain[0] == "i" else ""
        return f"whole number, {size} byte{'s' if size > 1 else ''}{', ' + order if order else ''}{sign}"
    if plain[:1] == "f" and plain[1:].isdigit():
        return f"fraction, {int(plain[1:]) // 8} bytes, {order}"
    if name.startswith("bit"):
        return f"switch, bit {name[3:]} of a byte"
    if plain.startswith("bcd"):
        return f"packed digits, {plain[3:]} bytes"
    if plain.startswith("unpacked"):
        return f"a digit a byte, {plain[8:]} bytes"
    words = {"uleb128": "number of variable length", "sleb128": "number of variable length, with a sign"}
    words |= {"vlq": "number of variable length, highest bits first"}
    words |= {"sized-high": "number of variable length, its size in its highest bits"}
    words |= {"sized-low": "number of variable length, its size in its lowest bits"}
    words |= {"sized-front": "number of variable length, its size in front"}
    words |= {"zigzag": "number of variable length, zigzag", "digits": "text of digits"}
    return words.get(name, f"text, {name}")


def storage_in_brief(name: str) -> str:
    """The same for a narrow column."""
    words = storage_in_words(name).replace("whole number, ", "").replace(" byte first", " first")
    return words.replace("number of variable length", "variable length").replace(", with a sign", ", signed")
