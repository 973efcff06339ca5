"""Files as they come from the world, for the page on the first hour: packed, marked, misnamed, dated in a zone."""

from __future__ import annotations

import csv
import gzip
import io
import zipfile
from datetime import datetime, timedelta, timezone
from pathlib import Path
from random import Random
from typing import Any

HARBOURS = ["Alm", "Bro", "Cul", "Dun", "Eide", "Foss", "Grim", "Hov", "Ise", "Jar", "Kvam", "Lom"]


def write_awkward(folder: Path) -> None:
    """Write the folder ``ferries``."""
    random = Random(5)
    folder.mkdir()
    harbours = [{"Code": name[:3].upper(), "Name": f"{name} Quay", "District": ["North", "South"][at % 2], "tz": 1}
                for at, name in enumerate(HARBOURS)]  # fmt: skip
    (folder / "Harbours.csv").write_bytes(b"\xef\xbb\xbf" + _csv(harbours).encode())
    vessels = [{"Hull": f"N{n:03d}X", "Vessel": f"Boat {n}", "Built": "NA" if n % 7 == 0 else 1949 + n, "Berths": 20 + n}
               for n in range(1, 41)]  # fmt: skip
    with zipfile.ZipFile(folder / "vessels.zip", "w") as archive:
        archive.writestr("vessels.csv", _csv(vessels))
    codes = [each["Code"] for each in harbours]
    start = datetime(2023, 1, 1, 4, 30, tzinfo=timezone(timedelta(hours=1)))
    crossings = []
    for n in range(900):
        left = start + timedelta(minutes=570 * n)
        passengers = "NA" if n % 45 == 0 else random.randrange(5, 200)
        crossings.append(
            {"Crossing No": 100 + n % 40, "Origin": random.choice(codes), "Destination": random.choice(codes),
             "Hull": "N999X" if n % 90 == 1 else f"N{random.randrange(1, 41):03d}X", "Left At": left.isoformat(),
             "Sched Time": left.hour * 100 + left.minute, "Passengers": passengers,
             "Fare": "NA" if passengers == "NA" else passengers * 7.5, "Delay": random.randrange(-5, 40)}
        )  # fmt: skip
    with gzip.open(folder / "crossings.csv.gz", "wt", encoding="utf-8", newline="") as file:
        file.write("".join(f"{line},\n" for line in _csv(crossings).splitlines()))
    counts = [
        {"Code": code, "Month": f"2023-{month:02d}", "Kiosk Sales": 40 * month} for code in codes for month in (1, 2)
    ]
    (folder.parent / "kiosk.csv").write_text(_csv(counts) + f"{len(counts)} rows\n")


def _csv(rows: list[dict[str, Any]]) -> str:
    buffer = io.StringIO()
    writer = csv.DictWriter(buffer, list(rows[0]), lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return buffer.getvalue()
