"""Standard output and error as they may be, Ctrl-C, and files that are written to: in real processes."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import relatum
from fault import make_shop
from relatum.demo.write import write_demo
from stall import run

#: The faults of the list try each format on a full device; here the shell does it, to a few.
COMMANDS = [
    ("pivot", "shop.toml", "--rows", "product.plant", "--values", "revenue"),
    ("--help",),
]


def shell(folder: Path, line: str, **env: str) -> subprocess.CompletedProcess[str]:
    """A line of the shell in a folder with a model."""
    make_shop(folder)
    line = line.replace("relatum", f"{sys.executable} -m relatum")
    return subprocess.run(
        ["bash", "-c", line],
        cwd=folder,
        capture_output=True,
        text=True,
        env=os.environ | env,
        timeout=120,
        errors="replace",
    )


def test_readers_that_go_away_full_devices_and_closed_streams(tmp_path: Path) -> None:
    for command in COMMANDS:
        asked = f"relatum {' '.join(command)}"
        lines = [
            f"{asked} | head -c 1 >/dev/null; echo ${{PIPESTATUS[0]}}",
            f"{asked} >/dev/full 2>err; echo $?; cat err >&2",
            f"{asked} 2>&- >&-; echo $?",
            f"{asked} >/dev/full 2>/dev/full; echo $?",
        ]  # fmt: skip
        done = shell(tmp_path, "; ".join(lines))
        codes = done.stdout.split()
        assert codes == ["0", "2", "0", "2"], (command, done)
        said = [line for line in done.stderr.splitlines() if line.startswith(("error", "Traceback", "Exception"))]
        assert said == ["error: This cannot be written: No space left on device."], (command, done.stderr)


ODD = [{"COLUMNS": "0"}, {"COLUMNS": "1"}, {"PYTHONIOENCODING": "ascii"}, {"PYTHONIOENCODING": "latin-1"}, {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}, {"HOME": "/nowhere", "XDG_STATE_HOME": "/proc/nowhere"}]  # fmt: skip


#: Three commands in one process: what is odd is the process.
THREE = """
import sys
from relatum.__main__ import main
asked = ["pivot", "shop.toml", "--rows", "product.plant", "--values", "revenue"]
for line in ([*asked, "--style", "bar = true"], [*asked, "--format", "json"], ["check", "gone.toml"]):
    sys.argv = ["relatum", *line]
    try:
        main()
    except SystemExit as end:
        code = end.code
sys.exit(code)
"""


@pytest.mark.parametrize("env", ODD, ids=str)
def test_odd_environments(tmp_path: Path, env: dict[str, str]) -> None:
    (tmp_path / "three.py").write_text(THREE)
    done = shell(tmp_path, f"{sys.executable} three.py", **env)
    assert done.returncode == 2 and "Traceback" not in done.stderr and "fault of Relatum" not in done.stderr, done
    assert "36" in done.stdout and '"Fern"' in done.stdout and "no such file" in done.stderr


def test_an_interrupt_ends_work_within_a_second_and_leaves_nothing(tmp_path: Path) -> None:
    make_shop(tmp_path)
    with (tmp_path / "sales.csv").open("w") as file:
        file.write("product_id,quantity\n" + "P1,2\nP2,3\n" * 600_000)
    before = set(tmp_path.iterdir())
    slow = (
        "pivot",
        "shop.toml",
        "--rows",
        "product.plant",
        "--values",
        "percentile(0.3 of sales.quantity), count(distinct sales.quantity)",
        "--out",
        "out.csv",
    )
    stuck = "import relatum.sources.read as p, time\np.plain_file = lambda path: time.sleep(30)"
    for after in (0.03, 0.1, 0.2, 0.4, 0.8, 1.2):
        for code in ("", stuck):
            start = f"import sys; sys.argv = {['relatum', *slow]!r}\n{code if after > 0.5 else ''}\nfrom relatum.__main__ import main; main()"
            process = subprocess.Popen(
                [sys.executable, "-c", start], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
            )
            time.sleep(after)
            process.send_signal(signal.SIGINT)
            told = time.monotonic()
            _, said = process.communicate(timeout=20)
            late = time.monotonic() - told
            if after >= (1.2 if code and after > 0.5 else 0.2):  # before that Python itself may still be starting
                assert process.returncode in (130, 0) and "Traceback" not in said, (after, process.returncode, said)
            assert late < 2.5, (after, late)  # a second, on a machine with only its arguments to do
    assert {path for path in tmp_path.iterdir() if path.name not in ("out.csv", ".relatum")} == before
    assert not [*tmp_path.glob(".relatum/.new-*"), *tmp_path.glob(".out*")]


def test_an_interrupt_while_arguments_are_read_is_understood(tmp_path: Path) -> None:
    stopped = "import click\ndef stop(*given):\n    raise KeyboardInterrupt\nclick.Group.resolve_command = stop"
    start = f"import sys; sys.argv = ['relatum', 'show', 'x']\n{stopped}\nfrom relatum.__main__ import main; main()"
    done = subprocess.run([sys.executable, "-c", start], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout, done.stderr) == (130, "", "")


def test_a_library_that_hears_no_interrupt_is_ended(tmp_path: Path) -> None:
    make_shop(tmp_path)
    # A regular expression that runs for minutes in one C call: Python cannot be interrupted meanwhile.
    stuck = "import ctypes, relatum.sources.read as p\np.plain_file = lambda path: ctypes.CDLL(None).sleep(60)"
    start = (
        f"import sys; sys.argv = ['relatum', 'check', 'shop.toml']\n{stuck}\nfrom relatum.__main__ import main; main()"
    )
    process = subprocess.Popen(
        [sys.executable, "-c", start], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    time.sleep(2.5)
    process.send_signal(signal.SIGINT)
    told = time.monotonic()
    process.communicate(timeout=30)
    assert process.returncode == 130 and time.monotonic() - told < 2.5


# -- files that are written to ----------------------------------------------------------------------------------------


def test_what_a_link_leads_to_is_written_and_the_link_stays(tmp_path: Path) -> None:
    make_shop(tmp_path)
    (tmp_path / "real").mkdir()
    (tmp_path / "shop.toml").rename(tmp_path / "real" / "model.toml")
    (tmp_path / "shop.toml").symlink_to("real/model.toml")
    for name in ("sales.csv", "product.csv"):
        (tmp_path / name).rename(tmp_path / "real" / name)
    assert run("edit", tmp_path / "shop.toml", "measure", "more", "revenue + 1").exit_code == 0
    assert (tmp_path / "shop.toml").is_symlink() and "more" in (tmp_path / "real" / "model.toml").read_text()
    (tmp_path / "out.csv").symlink_to("real/grid.csv")
    assert run("pivot", tmp_path / "shop.toml", "--values", "more", "--out", tmp_path / "out.csv").exit_code == 0
    assert (tmp_path / "out.csv").is_symlink() and "37" in (tmp_path / "real" / "grid.csv").read_text()


def test_what_is_no_plain_file_is_written_to(tmp_path: Path) -> None:
    done = shell(
        tmp_path,
        "mkfifo pipe.csv; relatum pivot shop.toml --values revenue --out pipe.csv & cat pipe.csv; wait; test -p pipe.csv && echo still; ln -s /dev/null null.csv; relatum pivot shop.toml --values revenue --out null.csv && test -c null.csv && echo there",
    )
    assert done.stdout.split() == ["revenue", "36", "still", "there"], done


def test_a_demo_is_not_written_over_what_somebody_has_changed(tmp_path: Path) -> None:
    folder = tmp_path / "demo"
    write_demo(folder, 500)
    write_demo(folder, 600)
    for name in ("customer.csv", "sales.parquet", "nursery.toml"):
        content = (folder / name).read_bytes()
        (folder / name).write_bytes(content + b"\n# mine\n")
        with pytest.raises(relatum.SourceError, match=f"a {name} that was changed"):
            write_demo(folder, 700)
        assert run("demo", folder, "--lines", 700).exit_code == 2
        assert (folder / name).read_bytes().endswith(b"# mine\n")
        (folder / name).write_bytes(content)
    (folder / "nursery.toml").write_text((folder / "nursery.toml").read_text().replace("Hollowmere", "Elsewhere", 1))
    assert "that was changed" in run("demo", folder).stderr
    assert run("demo", folder, "--lines", 700, "--force").exit_code == 0
    assert "Elsewhere" not in (folder / "nursery.toml").read_text()
    (folder / "note.txt").write_text("mine")
    write_demo(folder, 500)
    assert (folder / "note.txt").read_text() == "mine"
