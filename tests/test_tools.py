"""What the repository holds beside the product runs too."""

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def bench(name: str, *counts: str) -> str:
    command = [sys.executable, str(ROOT / "benchmarks" / name), *counts]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    return done.stdout


def test_the_benchmarks_run_and_print_their_tables_beside_a_baseline() -> None:
    assert "python -c pass" in bench("start.py", "3")
    table = bench("certificates.py", "2")
    assert "bare requests" in table
    assert "ours, 16 at once" in table
    assert "inkstamp stamp, shelf alone" in table
    assert "wire to the CA" in bench("cpu_by_group.py", "3")
    assert "check --quick, so many names" in bench("growth.py", "2", "4")
    table = bench("requests.py", "40")
    assert "openssl req -new" in table
    assert "40, ours" in table
    table = bench("servers.py", "2")
    assert "nginx -T" in table
    assert "2 machines, 10 at once" in table
    table = bench("checks.py", "8")
    assert "openssl s_client for each, 16 at once" in table
    assert "inkstamp check --quick" in table
    assert "inkstamp renew, orders and all" in bench("renewals.py", "3", "6")
    assert "str.split" in bench("readers.py", "0.1", "2")
    table = bench("fleet.py", "40", "4", "2")
    assert "python -c pass" in table
    assert "one machine, ledger in a file" in table
    assert "2 workers, shared ledger" in table
    table = bench("proofs.py", "3")
    assert "put up, updates: 1 " in table
    assert "one after another" in table


def test_every_picture_of_the_readme_is_there_and_none_is_left_over() -> None:
    readme = (ROOT / "README.md").read_text()
    pictures = {each.name for each in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert pictures == {name for name in pictures if f"docs/screenshots/{name}" in readme}
    assert 0 < len(pictures) < 20
    assert readme.count("docs/screenshots/") >= len(pictures)
