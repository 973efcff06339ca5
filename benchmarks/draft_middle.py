"""Two schemas with tables in the middle: bills that their lines look up, and a timetable in an archive of texts."""

from __future__ import annotations

import csv
import io
import zipfile
from datetime import date, datetime, timedelta
from pathlib import Path
from random import Random

from draft_awkward import schema
from draft_data import Rows, write_csv


def _counter(folder: Path) -> list[str]:
    """A seed counter: bills with a day and a total, a clerk's own chief, a member's clerk, births, phones and faxes."""
    random = Random(17)
    towns = [f"Town {n}" for n in range(30)]
    write_csv(folder / "clerk.csv", [
        {"id": n, "surname": f"Clerk {n}", "title": ["Head", "Second", "Counter"][min(n, 3) - 1],
         "reports_to": [None, 1, 2, 2, 2, 1, 6, 6][n - 1], "birthdate": f"{1947 + 3 * n}-0{n}-1{n}T00:00:00Z",
         "hiredate": f"200{n % 5}-05-1{n}T00:00:00Z", "phone": f"01632-{n:06d}", "fax": f"01632-9{n:05d}",
         "address": f"{n} Mill Lane", "email": f"c{n}@seeds.example"}
        for n in range(1, 9)
    ])  # fmt: skip
    write_csv(folder / "member.csv", [
        {"id": n, "firstname": f"First {n}", "surname": f"Last {n}", "address": f"{n} High Street",
         "town": towns[n % 30], "county": f"County {n % 30 % 6}", "phone": f"01632-1{n:05d}",
         "fax": f"01632-2{n:05d}", "postalcode": f"{n % 30:02d}QX", "email": f"m{n}@seeds.example",
         "served_by_rep": 3 + n % 3}
        for n in range(1, 60)
    ])  # fmt: skip
    write_csv(folder / "family.csv", [{"id": n, "name": f"Family {n}"} for n in range(1, 26)])
    write_csv(
        folder / "packet.csv", [{"id": n, "name": ["Paper", "Foil", "Tin", "Box", "Bag"][n - 1]} for n in range(1, 6)]
    )
    write_csv(folder / "breeder.csv", [{"id": n, "name": f"Breeder {n}"} for n in range(1, 90)])
    write_csv(folder / "seed.csv", [
        {"id": n, "name": f"Seed {n}", "breeder": 1 + n % 89, "family": 1 + n % 25, "packet": 1 + n % 5,
         "milligrams": random.randrange(90, 9000), "unit_price": [0.99, 1.99][n % 7 == 0]}
        for n in range(1, 1200)
    ])  # fmt: skip
    bills, lines = [], []
    for n in range(1, 413):
        who, total = 1 + n % 59, 0
        for _ in range(random.randrange(1, 12)):
            seed, quantity = random.randrange(1, 1200), random.choice([1, 1, 1, 2])
            price = [99, 199][seed % 7 == 0]
            total += price * quantity
            lines.append(
                {"id": len(lines) + 1, "bill": n, "seed": seed, "unit_price": price / 100, "quantity": quantity}
            )
        day = datetime(2007, 1, 1) + timedelta(days=4 * n)
        bills.append({"id": n, "member": who, "billdate": f"{day.date()}T00:00:00Z",
                      "billing_address": f"{who} High Street", "billing_town": towns[who % 30],
                      "total": total / 100})  # fmt: skip
    write_csv(folder / "bill.csv", bills)
    write_csv(folder / "billline.csv", lines)
    return [str(folder)]


def _feed(folder: Path) -> list[str]:
    """A timetable in the open format GTFS (https://gtfs.org), made up: sequences, codes, places, compact days."""
    random = Random(18)
    lines = [f"{n}-{400 + n}" for n in range(1, 15)]
    stops: Rows = [
        {"stop_id": f"{n}{side}", "stop_name": f"Stop {n}", "stop_lat": -16 - n / 900, "stop_lon": 145 + n / 800,
         "location_type": 0 if side else 1, "parent_station": n if side else None}
        for n in range(101, 190) for side in ("", "N", "S")
    ]  # fmt: skip
    services = [f"S-{each}" for each in ("weekday", "saturday", "sunday")]
    trips, times, shapes = [], [], []
    for n in range(1, 400):
        line = random.choice(lines)
        shape = 1_100_000 + lines.index(line)
        trips.append({"route_id": line, "service_id": services[n % 3], "trip_id": f"T{n:05d}",
                      "trip_headsign": f"Stop {101 + n % 9}",
                      "direction_id": n % 2, "shape_id": shape})  # fmt: skip
        for at in range(1, 12):
            clock = f"{6 + n % 20:02d}:{5 * at:02d}:00"
            times.append({"trip_id": f"T{n:05d}", "arrival_time": clock, "departure_time": clock,
                          "stop_id": f"{101 + (7 * n + at) % 89}{'NS'[n % 2]}", "stop_sequence": at,
                          "pickup_type": random.choice([0, 0, 0, 1]), "drop_off_type": random.choice([0, 0, 3]),
                          "shape_dist_traveled": at * 410.5})  # fmt: skip
    for shape in range(1_100_000, 1_100_014):
        shapes += [{"shape_id": shape, "shape_pt_lat": -16 - at / 900, "shape_pt_lon": 145 + at / 800,
                    "shape_pt_sequence": 10_000 + at} for at in range(1, 60)]  # fmt: skip
    days = [date(2014, 6, 9) + timedelta(days=9 * n) for n in range(20)]
    tables: dict[str, Rows] = {
        "agency": [{"agency_id": each, "agency_name": f"Made-up Lines {each}"} for each in ("A1", "A2")],
        "routes": [{"route_id": each, "agency_id": f"A{1 + n % 2}", "route_short_name": each.split("-")[0],
                    "route_type": 3,
                    "route_color": "7BC142"} for n, each in enumerate(lines)],
        "stops": stops, "trips": trips, "stop_times": times, "shapes": shapes,
        "calendar": [{"service_id": each, "monday": int(n == 0), "saturday": int(n == 1), "sunday": int(n == 2),
                      "start_date": "20140526", "end_date": "20141226"} for n, each in enumerate(services)],
        "calendar_dates": [{"service_id": services[n % 3], "date": f"{day:%Y%m%d}", "exception_type": 1 + n % 2}
                           for n, day in enumerate(days)],
        "transfers": [{"from_stop_id": n, "to_stop_id": n, "transfer_type": 2, "min_transfer_time": 60 * (n % 4)}
                      for n in range(101, 140)],
    }  # fmt: skip
    with zipfile.ZipFile(folder / "feed.zip", "w") as archive:
        for name, rows in tables.items():
            text = io.StringIO()
            writer = csv.DictWriter(text, list(rows[0]))
            writer.writeheader()
            writer.writerows(rows)
            archive.writestr(f"{name}.txt", text.getvalue())
        archive.writestr("readme.txt", "A feed of lines that there are not.\nIt is read by tests.\n")
    return [str(folder / "feed.zip")]


MIDDLE = (
    schema(
        "counter", _counter,
        "bill.member -> member.id; billline.bill -> bill.id; billline.seed -> seed.id; seed.breeder -> breeder.id; "
        "seed.family -> family.id; seed.packet -> packet.id; clerk.reports_to -> clerk.id; "
        "member.served_by_rep -> clerk.id; bill.billdate -> calendar.date",
        measures="count(bill); count(billline); sum(bill.total); sum(billline.quantity); "
        "sum(billline.quantity * billline.unit_price); avg(billline.unit_price)",
        not_summed="clerk.reports_to; seed.milligrams; billline.unit_price; member.served_by_rep",
        years=(2007, 2011),
    ),
    schema(
        "feed", _feed,
        "trips.route_id -> routes.route_id; trips.service_id -> calendar.service_id; "
        "stop_times.trip_id -> trips.trip_id; "
        "stop_times.stop_id -> stops.stop_id; stops.parent_station -> stops.stop_id; "
        "calendar_dates.service_id -> calendar.service_id; calendar_dates.date -> dates.date; "
        "transfers.to_stop_id -> stops.stop_id; routes.agency_id -> agency.agency_id",
        also="transfers.from_stop_id -> stops.stop_id",
        measures="count(stop_times); avg(transfers.min_transfer_time)",
        not_summed="stop_times.stop_sequence; stop_times.pickup_type; stop_times.drop_off_type; shapes.shape_pt_lat; "
        "shapes.shape_pt_lon; shapes.shape_pt_sequence; calendar_dates.exception_type; transfers.transfer_type; "
        "stop_times.shape_dist_traveled; transfers.min_transfer_time",
        years=(2014, 2014),
    ),
)  # fmt: skip
