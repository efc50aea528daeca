"""What a player can do. Each action changes the company as the game would, with noise of its own."""

from __future__ import annotations

from brinewick.company import (
    INJURIES,
    ITEMS,
    PRICES,
    SITES,
    STATIONS,
    Charter,
    Company,
    Diver,
    LogLine,
    Lot,
    SaveRefused,
    check_name,
    shown_vigour,
)


class NotPossible(Exception):
    """The game does not allow this action now."""


def start(name: str, slot: int = 1) -> Company:
    try:
        check_name("company", name)
    except SaveRefused as error:
        raise NotPossible(str(error)) from error
    company = Company(name=name, slot=slot)
    company.crew = [
        Diver("Oriel", 23, 55, 0b00011, 1, 12.5, -3.25, 840),
        Diver("Tamsin", 77, 80, 0, 2, 4.0, 9.75, 1210),
        Diver("Brock", 64, 31, 0b00001, 3, -8.5, 2.0, 0),
        Diver("Ives", 55, 72, 0, 3, 0.0, 0.0, 65_540),
    ]
    stock = [(1, 2, 0, 0), (2, 3, 12, 0), (3, 14, 40, 2), (4, 9, 0, 0), (5, 2, 3, 0), (6, 60, 0, 1)]
    stock += [(7, 4, 22, 0), (8, 6, 71, 3), (9, 1, 0, 0), (10, 310, 0, 0), (11, 2, 8, 4), (12, 5, 15, 0)]
    for number, (item, count, wear, kept_for) in enumerate(stock):
        company.hold.append(Lot(item, count, wear, kept_for, 90 + number, f"B-{number + 1:02}", 0))
    for lot in company.hold:
        lot.berth = next_random(company)
    company.sites = 0b0101_0011
    company.route = [0, 1, 4]
    company.charters = [Charter("Low Chapel charter", 88)]
    company.chart_width = 48
    company.chart = chart(48, 40)
    write_log(company, f"{name} opens its books.")
    write_log(company, "The bell rang twice at slack water.")
    return company


def chart(width: int, height: int) -> bytes:
    """Depths of the drowned town in fathoms: streets, roofs and a channel."""
    return bytes(
        min(255, 6 + (x * 5 + y * 3) % 17 + (30 if abs(x - y) < 4 else 0) + (y // 8) * 9)
        for y in range(height)
        for x in range(width)
    )


def next_random(company: Company) -> int:
    """The game's own generator (a linear congruence): its state is part of the save."""
    company.seed = (company.seed * 1_664_525 + 1_013_904_223) & 0xFFFFFFFF
    return company.seed


def roll(company: Company, sides: int) -> int:
    """A number below `sides`, from the high bits, which are the better ones of such a generator."""
    return (next_random(company) >> 12) % sides


def write_log(company: Company, text: str) -> None:
    company.log.append(LogLine((company.month - 1) * 30 + company.day, text))


def pass_time(company: Company, minutes: int) -> None:
    """The noise each action leaves: clock, counter, seed, and one lot that is stowed elsewhere."""
    company.clock += minutes * 60 + roll(company, 60)
    company.plays += 1
    if company.hold:
        company.hold.append(company.hold.pop(roll(company, len(company.hold))))


def diver_named(company: Company, name: str) -> Diver:
    for diver in company.crew:
        if diver.name == name:
            return diver
    raise NotPossible(f"there is no diver called {name}")


def item_named(name: str) -> int:
    for number, known in ITEMS.items():
        if known == name.lower():
            return number
    raise NotPossible(f"nobody trades in {name}")


def sell(company: Company, item: str, count: int) -> str:
    number = item_named(item)
    lot = next((lot for lot in company.hold if lot.item == number and lot.count >= count), None)
    if lot is None or count < 1:
        raise NotPossible(f"there are no {count} of {item} in the hold")
    lot.count -= count
    if lot.count == 0:
        company.hold.remove(lot)
    company.marks += PRICES[number] * count
    pass_time(company, 5)
    return f"sold {count} {item} for {PRICES[number] * count} marks"


def buy(company: Company, item: str, count: int) -> str:
    number = item_named(item)
    cost = PRICES[number] * count
    if count < 1 or cost > company.marks:
        raise NotPossible(f"{count} {item} cost {cost} marks")
    company.marks -= cost
    lot = next((lot for lot in company.hold if lot.item == number and lot.count + count < 65_536), None)
    if lot is None:
        company.hold.append(Lot(number, count, 0, 0, company.day, "", next_random(company)))
    else:
        lot.count += count
    pass_time(company, 5)
    return f"bought {count} {item} for {cost} marks"


def dive(company: Company, name: str) -> str:
    diver = diver_named(company, name)
    if diver.air < 10:
        raise NotPossible(f"{name} has too little air to dive")
    used = 8 + roll(company, 20)
    diver.air = max(0, diver.air - used)
    diver.vigour = max(0, min(diver.vigour, 100) - used // 3)
    diver.injuries |= 1 << INJURY_TIRED
    diver.depth_cm = 300 + roll(company, 4000)
    found = 1 + roll(company, len(ITEMS))
    company.hold.append(Lot(found, 1, 30, 0, company.day, "found", next_random(company)))
    write_log(company, f"{name} came up with {ITEMS[found]}.")
    pass_time(company, 90)
    return f"{name} used {used} air and brought up {ITEMS[found]}"


INJURY_TIRED = next(bit for bit, name in INJURIES.items() if name == "tired")


def heal(company: Company, name: str) -> str:
    diver = diver_named(company, name)
    diver.air, diver.vigour, diver.injuries = 100, min(100, diver.vigour + 25), 0
    pass_time(company, 480)
    return f"{name} is rested: air 100, vigour {diver.vigour}"


def open_site(company: Company, name: str) -> str:
    if name not in SITES:
        raise NotPossible(f"no map shows {name}")
    company.sites |= 1 << SITES.index(name)
    write_log(company, f"{name} is open.")
    pass_time(company, 20)
    return f"{name} is open"


def install_charter(company: Company, name: str) -> str:
    """A charter brings things of its own, which go with it."""
    if any(each.name == name for each in company.charters):
        raise NotPossible(f"{name} is installed already")
    company.charters.append(Charter(name, (company.month - 1) * 30 + company.day))
    for item, count in ((9, 2), (3, 20)):
        berth = next_random(company)
        company.hold.append(Lot(item, count, 0, 0, company.day, "charter", berth, len(company.charters)))
    pass_time(company, 10)
    return f"{name} is installed, with 2 tide table and 20 hemp line"


def remove_charter(company: Company, name: str) -> str:
    number = next((n for n, each in enumerate(company.charters, 1) if each.name == name), None)
    if number is None:
        raise NotPossible(f"{name} is not installed")
    del company.charters[number - 1]
    gone = [lot for lot in company.hold if lot.charter == number]
    company.hold = [lot for lot in company.hold if lot.charter != number]
    for lot in company.hold:
        lot.charter -= lot.charter > number
    pass_time(company, 10)
    return f"{name} is removed, with {len(gone)} lots of its own"


def rename(company: Company, old: str, new: str) -> str:
    diver_named(company, old).name = new
    pass_time(company, 1)
    return f"{old} is now called {new}"


def hire(company: Company, name: str) -> str:
    if company.marks < 150:
        raise NotPossible("a diver costs 150 marks")
    if len(company.crew) == 255:
        raise NotPossible("the crew is full")
    company.marks -= 150
    company.crew.append(Diver(name))
    write_log(company, f"{name} signed on.")
    pass_time(company, 30)
    return f"{name} signed on for 150 marks"


def show(company: Company) -> str:
    """What a player sees on the quay."""
    lines = [
        f"{company.name} · slot {company.slot} · {company.date} · {company.clock // 60} minutes played",
        f"marks {company.marks} · debt {company.debt} · reputation {company.reputation}",
    ]
    for diver in company.crew:
        hurt = ", ".join(name for bit, name in INJURIES.items() if diver.injuries >> bit & 1) or "well"
        lines.append(
            f"  {diver.name}: air {diver.air}, vigour {shown_vigour(diver)}, {hurt}, at {STATIONS[diver.station]}"
        )
    lines.append(f"hold, {len(company.hold)} lots:")
    for lot in company.hold:
        owner = f", kept for {company.crew[lot.kept_for - 1].name}" if lot.kept_for else ""
        lines.append(f"  {lot.count} {ITEMS[lot.item]}, worn {lot.wear} %{owner}")
    lines.append("sites: " + ", ".join(name for bit, name in enumerate(SITES) if company.sites >> bit & 1))
    return "\n".join(lines)
