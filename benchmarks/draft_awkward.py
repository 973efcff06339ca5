"""Six schemas as they come from the world: markers for null, clock times, parts of dates, one lookup used twice."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

from draft_data import Rows, Schema, write_csv


def _ferries(folder: Path) -> list[str]:
    """A year of ferry crossings: clock times as numbers, NA for null, weather by place and hour, harbours twice."""
    random = Random(11)
    harbours = ["ALM", "BRO", "CUL"]
    far = [f"H{chr(65 + n // 20)}{chr(65 + n % 20)}" for n in range(90)]
    write_csv(folder / "harbours.csv", [
        {"code": code, "name": f"Harbour {code}", "lat": 50 + n / 7, "lon": -3 - n / 9, "alt": n * 3 % 40,
         "tz": -(n % 3), "dst": "AU"[n % 2], "tzone": ["Inner/East", "Inner/West"][n % 2]}
        for n, code in enumerate([*harbours, *far])
    ])  # fmt: skip
    write_csv(folder / "operators.csv", [{"operator": f"O{n}", "name": f"Operator {n}"} for n in range(1, 9)])
    hulls = [f"N{n:03d}X" for n in range(300)]
    write_csv(folder / "vessels.csv", [
        {"hull": hull, "year": "NA" if n % 37 == 0 else 1949 + n % 62, "type": ["Car ferry", "Catamaran"][n % 2],
         "maker": f"Yard {n % 9}", "model": f"M-{n % 31}", "engines": 1 + n % 4, "berths": 20 + n % 200, "speed": "NA"}
        for n, hull in enumerate(hulls[:270])
    ])  # fmt: skip
    hours = [datetime(2019, 1, 1) + timedelta(hours=n) for n in range(24 * 365)]
    weather = []
    for code in harbours:
        for at in hours:
            weather.append(
                {"origin": code, "year": at.year, "month": at.month, "day": at.day, "hour": at.hour,
                 "temp": random.choice(["NA", 11.02, 8.06, 15.1]), "humid": random.choice([59.37, 61.63]),
                 "wind_dir": random.choice(["NA", 10, 230]), "gust": random.choice(["NA", 20.7]),
                 "rain": 0.01 * random.randrange(9), "visib": 10, "time_hour": at.strftime("%Y-%m-%dT%H:00:00Z")}
            )  # fmt: skip
    write_csv(folder / "weather.csv", weather)
    crossings: Rows = []
    for n in range(9000):
        at = random.choice(hours)
        late = "NA" if n % 40 == 0 else random.randrange(-20, 90)
        clock = at.hour * 100 + random.randrange(0, 60)
        crossings.append(
            {"year": at.year, "month": at.month, "day": at.day, "dep_time": "NA" if late == "NA" else clock,
             "sched_dep_time": clock, "dep_delay": late, "arr_time": "NA" if late == "NA" else clock + 100,
             "arr_delay": late, "operator": f"O{random.randrange(1, 9)}", "crossing": random.randrange(1, 6000),
             "hull": random.choice(hulls), "origin": random.choice(harbours), "dest": random.choice(far[:60]),
             "sea_time": "NA" if late == "NA" else random.randrange(20, 300), "distance": random.randrange(9, 300),
             "hour": at.hour, "minute": clock % 100, "time_hour": at.strftime("%Y-%m-%dT%H:00:00Z")}
        )  # fmt: skip
    write_csv(folder / "crossings.csv", crossings)
    return [str(folder)]


def _league(folder: Path) -> list[str]:
    """A century of a ball game: years alone, keys of four columns, names that begin with digits, people's births."""
    random = Random(12)
    clubs = [f"{a}{b}L" for a in "BCDFGH" for b in "AEIO"]
    people = [f"{chr(97 + n % 26)}{n:05d}" for n in range(1500)]
    write_csv(folder / "Franchises.csv", [
        {"franchID": club, "franchName": f"The {club}s", "active": ["Y", "N", "NA"][n % 3]}
        for n, club in enumerate(clubs)
    ])  # fmt: skip
    write_csv(folder / "People.csv", [
        {"playerID": who, "birthYear": 1850 + n % 140, "birthMonth": 1 + n % 12, "birthDay": 1 + n % 28,
         "nameFirst": f"First{n % 211}", "nameLast": f"Last{n}", "weight": 60 + n % 50, "height": 160 + n % 40,
         "throws": "RL"[n % 2], "debut": date(1871 + n % 140, 5, 1 + n % 28)}
        for n, who in enumerate(people)
    ])  # fmt: skip
    teams, batting, salaries = [], [], []
    for year in range(1871, 2020):
        for n, club in enumerate(clubs[: 8 + (year - 1871) // 10]):
            teams.append({"yearID": year, "lgID": ["NA", "EL", "WL"][0 if year < 1880 else 1 + n % 2],
                          "teamID": club, "franchID": club, "Rank": 1 + n, "G": 100, "W": random.randrange(30, 70),
                          "attendance": "NA" if year < 1900 else random.randrange(90_000)})  # fmt: skip
            for who in random.sample(people, 4):
                stint = 1 + (random.random() < 0.05)
                batting.append({"playerID": who, "yearID": year, "stint": stint, "teamID": club,
                                "lgID": teams[-1]["lgID"], "G": random.randrange(1, 100),
                                "AB": random.randrange(400), "R": random.randrange(90), "H": random.randrange(150),
                                "2B": random.randrange(30), "3B": random.randrange(9),
                                "SB": "NA" if year < 1886 else random.randrange(40)})  # fmt: skip
                if year >= 1985:
                    salaries.append({"yearID": year, "teamID": club, "lgID": teams[-1]["lgID"], "playerID": who,
                                     "salary": random.randrange(60_000, 9_000_000)})  # fmt: skip
    seen: set[Any] = set()
    unique = []
    for row in batting:
        key = row["playerID"], row["yearID"], row["stint"], row["teamID"]
        if key[:3] not in seen:
            unique.append(row)
        seen.add(key[:3])
    write_csv(folder / "Teams.csv", teams)
    write_csv(folder / "Batting.csv", unique)
    write_csv(folder / "Salaries.csv", salaries)
    return [str(folder)]


def _rentals(folder: Path) -> list[str]:
    """Tools for hire: moments with a zone, two branches a contract, flags and columns that only end in "id"."""
    random = Random(13)
    write_csv(folder / "branch.csv", [
        {"branch_no": f"B{n:02d}", "town": f"Town {n}", "county": f"County {n % 4}", "phone": f"01632-{n:06d}"}
        for n in range(1, 25)
    ])  # fmt: skip
    write_csv(folder / "tool.csv", [
        {"tool_code": f"T-{n:04d}", "tool": f"Tool {n}", "family": f"Family {n % 9}", "bought": date(2009, 1, 1)
         + timedelta(days=9 * n), "weight_kg": n % 70 + 0.5, "daily_rate": 4 + n % 30}
        for n in range(1, 400)
    ])  # fmt: skip
    rows: Rows = []
    for n in range(1, 4001):
        out = datetime(2024, 1, 2, 6) + timedelta(minutes=131 * n)
        rows.append(
            {"contract_no": 70_000 + n, "tool_code": f"T-{random.randrange(1, 400):04d}",
             "picked_up_branch": f"B{random.randrange(1, 25):02d}",
             "returned_branch": f"B{random.randrange(1, 25):02d}", "out_at": out.isoformat() + "+02:00",
             "back_at": (out + timedelta(hours=random.randrange(3, 90))).isoformat() + "+02:00",
             "paid": random.choice(["yes", "no"]), "bid": random.randrange(5, 90), "days": random.randrange(1, 9),
             "damage_ratio": round(random.random(), 3), "charge": random.randrange(8, 400)}
        )  # fmt: skip
    write_csv(folder / "contract.csv", rows)
    return [str(folder)]


def _stations(folder: Path) -> list[str]:
    """Sensors: headings with blanks and signs, N/A between numbers, parts of a date that lead to a calendar file."""
    random = Random(14)
    days = [date(2022, 1, 1) + timedelta(days=n) for n in range(730)]
    write_csv(folder / "Calendar.csv", [
        {"Date": day, "Year": day.year, "Month": day.month, "Day": day.day, "Season": "WSSA"[day.month % 12 // 3]}
        for day in days
    ])  # fmt: skip
    write_csv(folder / "Stations.csv", [
        {"Station Code": f"S{n:02d}", "Station Name": f"Station {n}", "Valley": f"Valley {n % 5}", "Height (m)": 90 * n,
         "Remarks": f"moved {n} times, roof {n * 7 % 13}, see also file {n * 31}"}
        for n in range(1, 31)
    ])  # fmt: skip
    rows: Rows = []
    for n in range(1, 31):
        for day in days[::3]:
            rows.append(
                {"Station": f"S{n:02d}", "Year": day.year, "Month": day.month, "Day": day.day,
                 "Rain (mm)": random.choice(["N/A", 0, 2, 7]), "Snow": random.choice(["N/A", 0, 1]),
                 "Temp °C": random.randrange(-9, 30), "Humid": random.randrange(30, 99), "Solid": random.randrange(9),
                 "2nd reading": random.randrange(50), "Sensor No": random.randrange(100, 140)}
            )  # fmt: skip
    write_csv(folder / "Readings.csv", rows)
    return [str(folder)]


def _canteen(folder: Path) -> list[str]:
    """Order lines by (order, line), a register of people of whom few ever came, a calendar's bait in a lookup."""
    random = Random(15)
    write_csv(folder / "members.csv", [
        {"member_id": n, "joined": date(1962, 3, 1) + timedelta(days=7 * n), "born": 1930 + n % 70,
         "grade": "ABC"[n % 3]}
        for n in range(1, 3001)
    ])  # fmt: skip
    write_csv(folder / "dishes.csv", [
        {"dish": f"D{n}", "dish_name": f"Dish {n}", "course": ["starter", "main", "sweet"][n % 3],
         "kitchen": ["cold", "hot", "cold"][n % 3], "price": 3 + n % 9 + 0.5}
        for n in range(1, 61)
    ])  # fmt: skip
    orders, lines = [], []
    for n in range(1, 1801):
        orders.append({"order_no": n, "member_id": 40 * random.randrange(1, 30), "ordered_on": date(2025, 1, 2)
                       + timedelta(days=n // 6), "till": random.randrange(1, 4)})  # fmt: skip
        for line in range(1, random.randrange(2, 6)):
            lines.append({"order_no": n, "line_no": line, "dish": f"D{random.randrange(1, 61)}",
                          "ordered_on": orders[-1]["ordered_on"], "portions": random.randrange(1, 5),
                          "prepared_at": 700 + random.randrange(60), "seat": random.randrange(1, 90)})  # fmt: skip
    write_csv(folder / "orders.csv", orders)
    write_csv(folder / "order_lines.csv", lines)
    return [str(folder)]


def _tickets(folder: Path) -> list[str]:
    """A hall's tickets: years from 1949 to 2019 in one column, an infinite number, a score with its count beside it."""
    random = Random(16)
    write_csv(folder / "works.csv", [
        {"work_id": f"W{n}", "title": f"Work {n}", "composer": f"Composer {n % 17}",
         "year": [1949, 2019][n % 2] - n % 7}
        for n in range(1, 120)
    ])  # fmt: skip
    write_csv(folder / "concerts.csv", [
        {"concert_id": 500 + n, "work_id": f"W{1 + n % 119}", "played_on": date(2021, 1, 3) + timedelta(days=4 * n),
         "hall": ["Great", "Small"][n % 2], "seats": [900, 180][n % 2]}
        for n in range(1, 260)
    ])  # fmt: skip
    rows: Rows = []
    for n in range(1, 6001):
        rows.append(
            {"ticket": n, "concert_id": 500 + random.randrange(1, 260), "price": random.choice([12.5, 30, 48]),
             "row": random.randrange(1, 30), "seat_number": random.randrange(1, 40),
             "reviews": random.randrange(0, 5), "score_ratio": "inf" if n % 3000 == 7 else random.random(),
             "paid": random.choice(["true", "false"]), "postcode": random.choice(["0150", "7031"])}
        )  # fmt: skip
    write_csv(folder / "tickets.csv", rows)
    return [str(folder)]


def schema(name: str, write: Callable[[Path], list[str]], right: str, **more: Any) -> Schema:
    """A schema whose links, formulas and columns are in one text each, parted by semicolons."""
    lists = {key: frozenset(more.pop(key, "").split("; ")) - {""} for key in ("also", "measures", "not_summed")}
    return Schema(name, write, frozenset(right.split("; ")), **lists, **more)


AWKWARD = (
    schema(
        "ferries", _ferries,
        "crossings.operator -> operators.operator; crossings.hull -> vessels.hull; crossings.origin -> harbours.code; "
        "crossings.dest -> harbours.code; crossings.(origin, time_hour) -> weather.(origin, time_hour); "
        "crossings.time_hour -> calendar.date",
        also="weather.origin -> harbours.code; weather.time_hour -> calendar.date",
        measures="count(crossings); sum(crossings.distance); avg(crossings.dep_delay); avg(crossings.arr_delay)",
        not_summed="crossings.dep_time; crossings.sched_dep_time; crossings.arr_time; crossings.crossing; "
        "crossings.hour; crossings.minute; weather.temp; weather.humid; weather.wind_dir; weather.visib; "
        "crossings.year; crossings.month; crossings.day; weather.gust; crossings.dep_delay; crossings.arr_delay",
        years=(2019, 2019),
    ),
    schema(
        "league", _league,
        "teams.franch_id -> franchises.franch_id; batting.player_id -> people.player_id; "
        "batting.(year_id, team_id) -> teams.(year_id, team_id); salaries.player_id -> people.player_id; "
        "salaries.(year_id, team_id) -> teams.(year_id, team_id)",
        also="batting.year_id -> calendar.year; salaries.year_id -> calendar.year; teams.year_id -> calendar.year; "
        "salaries.(year_id, lg_id, team_id) -> teams.(year_id, lg_id, team_id); "
        "batting.(year_id, lg_id, team_id) -> teams.(year_id, lg_id, team_id)",
        measures="count(batting); sum(batting.h); sum(batting.g); sum(salaries.salary); sum(batting.b2)",
        not_summed="batting.stint; batting.year_id; people.weight; people.height; teams.rank; salaries.year_id",
        years=(1871, 2019),
    ),
    schema(
        "rentals", _rentals,
        "contract.tool_code -> tool.tool_code; contract.picked_up_branch -> branch.branch_no; "
        "contract.returned_branch -> branch.branch_no; contract.out_at -> calendar.date; "
        "contract.back_at -> calendar.date",
        measures="count(contract); sum(contract.charge); sum(contract.days); avg(contract.damage_ratio)",
        not_summed="contract.contract_no; contract.damage_ratio; tool.daily_rate; tool.weight_kg",
        years=(2024, 2025),
    ),
    schema(
        "stations", _stations,
        "readings.station -> stations.station_code; readings.(year, month, day) -> calendar.(year, month, day)",
        measures="count(readings); sum(readings.rain_mm); sum(readings.snow); avg(readings.temp_c); "
        "avg(readings.humid)",
        not_summed="readings.temp_c; readings.humid; readings.sensor_no; readings.year; readings.month; "
        "readings.day; stations.height_m",
    ),
    schema(
        "canteen", _canteen,
        "orders.member_id -> members.member_id; order_lines.order_no -> orders.order_no; "
        "order_lines.dish -> dishes.dish",
        also="order_lines.ordered_on -> calendar.date; orders.ordered_on -> calendar.date",
        measures="count(order_lines); sum(order_lines.portions)",
        not_summed="order_lines.line_no; order_lines.prepared_at; order_lines.seat; orders.till; members.born",
        years=(2025, 2025),
    ),
    schema(
        "tickets", _tickets,
        "tickets.concert_id -> concerts.concert_id; concerts.work_id -> works.work_id; "
        "concerts.played_on -> calendar.date",
        measures="count(tickets); sum(tickets.reviews); avg(tickets.score_ratio); avg(tickets.price)",
        not_summed="tickets.row; tickets.seat_number; tickets.price; tickets.score_ratio; tickets.postcode; "
        "works.year; tickets.ticket",
        years=(2021, 2023),
    ),
)  # fmt: skip
