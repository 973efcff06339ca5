"""What a stranger's model, data and arguments must not do: write models, leave the folder, run anything."""

from __future__ import annotations

from pathlib import Path

import pytest

import relatum
from conftest import run

# -- data that would write a model ------------------------------------------------------------------------------------

ENDS = ("\n", "\r\n", "\r", "\x1b[2K\n", "\0", "\x7f", "\x85", "\u2028", "\u2029", "\x0b", "\x0c", "\x1c", "\x1e")
LIVE = '{0}[engine]{0}kind = "duckdb"{0}[table.zz]{0}source = "a.csv"{0}# '


@pytest.mark.parametrize("end", ENDS)
@pytest.mark.parametrize("where", ["value", "heading", "table"])
def test_a_draft_takes_what_data_holds_for_text(tmp_path: Path, end: str, where: str) -> None:
    hostile = "X" + LIVE.format(end).replace('"', '""') + "end"
    value, heading = (hostile if where == each else "X" for each in ("value", "heading"))
    name = f"sales{end if end != chr(0) else ''}forged = 1.csv" if where == "table" else "sales.csv"
    rows = "".join(f'"{value if at == 7 else f"k{at % 30}"}",{at}\n' for at in range(200))
    (tmp_path / name).write_text(f'product_id,"{heading}"\n{rows}', newline="")
    (tmp_path / "product.csv").write_text("product_id,plant\n" + "".join(f"k{at},p{at}\n" for at in range(30)))
    drafted = run("draft", tmp_path, "-o", tmp_path / "m.toml")
    if drafted.exit_code == 2:
        assert "fault of Relatum" not in drafted.stderr and not (tmp_path / "m.toml").exists()
        return
    model = relatum.open(tmp_path / "m.toml")
    assert model.declaration.engine.kind == "memory" and "zz" not in model.declaration.tables
    assert len(model.declaration.tables) <= 3
    for command in (("show",), ("check",), ("impact", "product"), ("refresh",)):
        said = run(command[0], tmp_path / "m.toml", *command[1:])
        assert said.exit_code in (0, 1, 2)
        lines = (said.stdout + said.stderr).splitlines()
        assert not [line for line in lines if line.startswith(("[engine]", "kind =", "forged"))]
