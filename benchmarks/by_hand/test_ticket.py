"""The checks of ticket.matrix.toml as tests: pytest test_ticket.py, with the program in TICKET."""

import itertools
import os
import subprocess

import pytest

PROGRAM = os.path.abspath(os.environ["TICKET"])


@pytest.fixture
def ticket(tmp_path):
    def launch(*words):
        return subprocess.run(
            ["python3", PROGRAM, *words], cwd=tmp_path, capture_output=True, text=True, timeout=10
        )

    return launch


def test_two_ports(ticket):
    came = ticket("Skerry", "Holm")
    assert (came.returncode, came.stdout, came.stderr) == (0, "4.50\n", "")


@pytest.mark.parametrize("words", [[], ["Skerry"], ["Skerry", "Holm", "Voe"]])
def test_too_few_too_many(ticket, words):
    came = ticket(*words)
    assert (came.returncode, came.stdout) == (2, "")
    assert came.stderr.startswith("usage:")


@pytest.mark.parametrize("riders", ["abc", "1.5", "", "0", "61"])
def test_riders_that_are_none(ticket, riders):
    came = ticket("Skerry", "Holm", "-n", riders)
    assert (came.returncode, came.stdout) == (2, "")
    assert "--riders" in came.stderr


@pytest.mark.parametrize(
    ("option", "number"), list(itertools.product(["-n", "--riders="], [1, 2, 60]))
)
def test_both_spellings(ticket, option, number):
    came = ticket(f"{option}{number}", "Skerry", "Holm")
    assert (came.returncode, came.stdout) == (0, f"{number * 4.5:.2f}\n")


@pytest.mark.parametrize("option", ["-n", "--riders"])
def test_the_value_apart(ticket, option):
    came = ticket(option, "2", "Skerry", "Holm")
    assert (came.returncode, came.stdout) == (0, "9.00\n")


@pytest.mark.parametrize("option", ["-h", "--help"])
def test_help(ticket, option):
    came = ticket(option)
    assert (came.returncode, came.stderr) == (0, "")
    for word in ("usage:", "--riders", "--bike", "--car", "--save"):
        assert word in came.stdout


@pytest.mark.parametrize(
    ("option", "name"), list(itertools.product(["-s", "--save"], ["ticket.txt", "a ticket.txt"]))
)
def test_saved(ticket, tmp_path, option, name):
    came = ticket(option, name, "Skerry", "Voe")
    assert (came.returncode, came.stdout) == (0, "4.50\n")
    assert (tmp_path / name).read_text().rstrip("\n") == "Skerry-Voe 4.50"
    assert os.listdir(tmp_path) == [name]


def test_not_saved(ticket):
    came = ticket("-s", "no/such/directory", "Skerry", "Voe")
    assert came.returncode != 0
    assert "no/such/directory" in came.stderr
    assert "Traceback" not in came.stderr


@pytest.mark.parametrize("words", [[], ["--bike"], ["--car"]])
def test_with_a_vehicle(ticket, words):
    assert ticket(*words, "Skerry", "Holm").returncode == 0


@pytest.mark.parametrize("both", [["--bike", "--car"], ["--car", "--bike"]])
def test_not_both(ticket, both):
    came = ticket(*both, "Skerry", "Holm")
    assert (came.returncode, came.stdout) == (2, "")
    assert "--" in came.stderr


@pytest.mark.parametrize(
    ("words", "price"),
    [
        ([], "4.50"),
        (["--bike"], "7.50"),
        (["--bike", "-n", "4"], "30.00"),
        (["--car"], "25.50"),
        (["--car", "-n", "4"], "39.00"),
    ],
)
def test_prices(ticket, words, price):
    came = ticket("Skerry", "Holm", *words)
    assert (came.returncode, came.stdout) == (0, f"{price}\n")
