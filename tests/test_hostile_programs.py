"""Programs that do their worst to their directory, their parent and their group: every other case gets its verdict."""

from __future__ import annotations

import gc
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from keen_matrix.core.launch.directories.trees import Identity, open_directory, remove_at, remove_tree
from tests.conftest import Place

LINUX = pytest.mark.skipif(not os.path.isdir("/proc"), reason="needs /proc")
SCRIPT = """
    case $1 in
        kill) kill -9 $PPID ;;
        stop) kill -STOP $PPID ;;
        alarm) kill -ALRM $PPID ;;
        quit) kill -QUIT $PPID ;;
        usr1) kill -USR1 $PPID ;;
        term) kill -TERM $PPID ;;
        deep) python3 -SIc 'import os
    for n in range(2100): os.mkdir("d"); os.chdir("d")' ;;
        locked) mkdir -p a/b/c; touch a/b/c/f; chmod 000 a/b/c a/b a ;;
        gone) rm -rf "$PWD" ;;
        linked) cd ..; rm -rf dir; ln -s {outside} dir ;;
        above) root=$(dirname "$(dirname "$(dirname "$PWD")")"); mv "$root" "$root.moved"; ln -s {outside} "$root" ;;
        orphans) n=0; while [ $n -lt 30 ]; do (setsid true &); n=$((n + 1)); done ;;
        daemon) env -i setsid sh -c 'exec env -i {sleep} 30' > /dev/null 2>&1 < /dev/null & ;;
    esac
    exit 0
    """
SPEC = """
    [program]
    launch = "sh {{here}}/p.sh"
    [[matrix]]
    name = "hostile"
    line = "{{what}}"
    axes.what = [{words}]
    expect.exit = 0
    """
CRASHED = {"kill": "was ended by signal KILL, twice", "stop": "was stopped, twice"}
HELD = ("fine", "alarm", "quit", "usr1", "term", "deep", "locked", "gone", "linked", "orphans", "last")


@pytest.fixture
def temporary(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A directory for temporary files, outside of what a test looks for left programs in."""
    directory = tmp_path_factory.mktemp("tmp")
    yield directory
    shutil.rmtree(directory, ignore_errors=True)


def hostile(place: Place, *words: str) -> None:
    outside = place.directory / "outside"
    outside.mkdir(exist_ok=True)
    (outside / "precious").write_text("keep me")
    place.write("p.sh", SCRIPT.replace("{outside}", str(outside)).replace("{sleep}", str(shutil.which("sleep"))))
    place.write("t.matrix.toml", SPEC.format(words=", ".join(f'"{word}"' for word in words)))


@LINUX
@pytest.mark.parametrize("jobs", ["1", "40"])
def test_whatever_a_program_does_the_other_cases_get_their_verdict(place: Place, temporary: Path, jobs: str) -> None:
    hostile(place, *HELD[:-1], *CRASHED, "daemon", "last")
    came = place.call("run", "--jobs", jobs, env={"TMPDIR": str(temporary)})
    verdicts = {each["argv"][0]: each["verdict"] for each in place.cases()}
    assert verdicts == dict.fromkeys(HELD, "passed") | dict.fromkeys(CRASHED, "crashed") | {"daemon": "failed"}
    assert came.status == 1 and "Traceback" not in came.err, came
    assert all(text in came.out for text in CRASHED.values()) and "sleep (ended)" in came.out
    assert (place.directory / "outside/precious").read_text() == "keep me"
    assert os.listdir(temporary) == []


@LINUX
def test_a_directory_that_is_another_one_by_now_is_left_and_told(place: Place, temporary: Path) -> None:
    hostile(place, "fine", "above", "last")
    came = place.call("run", "--jobs", "1", env={"TMPDIR": str(temporary)})
    assert came.status == 0 and "3 cases: all passed" in came.out
    assert re.search(r"not removed: \S+: something else is in its place", came.err)
    assert (place.directory / "outside/precious").read_text() == "keep me"
    assert len(os.listdir(place.directory / "outside")) == 1
    tried = place.call("try", "t.matrix.toml", "--", "above", env={"TMPDIR": str(temporary)})
    assert "not removed: " in tried.err, "every command that launches tells"


@LINUX
def test_a_worker_that_is_killed_from_outside_loses_nothing(place: Place, temporary: Path) -> None:
    place.write(
        "t.matrix.toml",
        """
        [program]
        launch = "sh -c 'sleep $1' sh"
        env.HOME = "/nowhere"
        env.TMPDIR = "/nowhere"
        [[matrix]]
        name = "m"
        line = "{seconds}"
        axes.seconds = [0.9, 0.8, 0.7, 0.6]
        expect.exit = 0
        """,
    )
    process = place.start("run", "--jobs", "2", env={**os.environ, "TMPDIR": str(temporary)})
    workers = place.await_programs(process, 2)
    programs = Path(f"/proc/{workers[0]}/task/{workers[0]}/children").read_text().split()
    os.kill(int(workers[0]), signal.SIGKILL)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 0 and b"4 cases: all passed" in out, (out, err)
    assert not any(os.path.exists(f"/proc/{pid}") for pid in programs)
    assert os.listdir(temporary) == []


@LINUX
def test_programs_that_end_while_the_whole_run_is_stopped_are_not_hung(place: Place) -> None:
    place.write(
        "t.matrix.toml",
        """
        [program]
        launch = "sh -c 'sleep 1.5' sh"
        timeout = 4
        [[matrix]]
        name = "m"
        line = "{n}"
        axes.n = [1, 2]
        expect.exit = 0
        """,
    )
    process = place.start("run", "--jobs", "2")
    place.await_programs(process, 2)
    os.killpg(process.pid, signal.SIGSTOP)
    time.sleep(4)
    os.killpg(process.pid, signal.SIGCONT)
    out, _ = process.communicate(timeout=60)
    assert process.returncode == 0 and b"2 cases: all passed" in out, out


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGQUIT, signal.SIGTERM, signal.SIGHUP])
@pytest.mark.parametrize("times", [1, 5])
def test_an_impatient_interruption_ends_all_in_order(
    place: Place, temporary: Path, number: signal.Signals, times: int
) -> None:
    place.write(
        "t.matrix.toml",
        """
        [program]
        launch = "sleep"
        [[matrix]]
        name = "m"
        line = "{n}"
        axes.n = [20, 21, 22]
        expect.exit = 0
        """,
    )
    process = place.start_anew("run", "--jobs", "2", env={**os.environ, "TMPDIR": str(temporary)})
    place.await_programs(process, 2)
    for _ in range(times):
        os.killpg(process.pid, number)
        time.sleep(0.02)
    out, err = process.communicate(timeout=30)
    assert process.returncode == 130 and b"Traceback" not in err, (process.returncode, out, err)
    assert os.listdir(temporary) == []


@LINUX
@pytest.mark.parametrize(("shell", "status", "told"), [
    ("trap '' CHLD; keen-matrix run", 0, "2 cases: all passed"),
    ("keen-matrix run > /dev/full", 3, "the output cannot be written: No space left on device"),
    ("keen-matrix unfold > /dev/full", 3, "the output cannot be written: No space left on device"),
    ("keen-matrix run --brief --report tap=/dev/full", 3, "/dev/full cannot be written: No space left on device"),
    ("d=$(printf 't\\377'); mkdir \"$d\"; TMPDIR=$PWD/$d keen-matrix run", 0, "2 cases: all passed"),
    ("d=$(printf 'f\\377'); mkdir \"$d\"; cp t.matrix.toml \"$d\"; keen-matrix run \"$d\"; keen-matrix report", 0, "2 passed"),
    ("mkdir gone; cd gone; rmdir ../gone; keen-matrix run ../t.matrix.toml", 3, "the current directory no longer exists"),
    ("mkdir gone; cd gone; rmdir ../gone; keen-matrix lint", 3, "the current directory no longer exists"),
    ("ulimit -n 20; keen-matrix run", 0, "2 cases: all passed"),
    ("ulimit -n 6; keen-matrix run", 3, "Too many open files"),
    ("exec 1>&- 2>&-; keen-matrix run", 0, ""),
])  # fmt: skip
def test_wherever_a_run_is_started_there_is_a_message_and_its_status(
    place: Place, shell: str, status: int, told: str
) -> None:
    place.write(
        "t.matrix.toml",
        """
        [program]
        launch = "echo"
        [[matrix]]
        name = "m"
        line = "{n}"
        axes.n = [1, 2]
        expect.stdout = "{n}"
        """,
    )
    path = f"{Path(shutil.which('keen-matrix', path=os.path.dirname(os.sys.executable)) or '').parent}:{os.environ['PATH']}"
    done = subprocess.run(["sh", "-c", shell], cwd=place.directory, env={**os.environ, "PATH": path}, capture_output=True)
    text = (done.stdout + done.stderr).decode("utf-8", "replace")
    assert "Traceback" not in text and done.returncode == status and told in text, (done.returncode, text)


# --- what is put in place and kept ---


def test_files_are_never_put_through_a_link_of_a_copied_directory(place: Place) -> None:
    outside = place.directory / "outside"
    (outside / "sub").mkdir(parents=True)
    (place.directory / "tree/inner").mkdir(parents=True)
    (place.directory / "tree/way").symlink_to(outside)
    (place.directory / "tree/file").symlink_to(outside / "sub/new")
    (place.directory / "more").mkdir()
    (place.directory / "more/x").write_text("x")
    for name, put in (("way/new.txt", 'text = "x"'), ("file", 'text = "x"'), ("way/sub", "dir = true"), ("way", 'copy = "more"'),
                      ("way/sub/deep", 'copy = "more"'), ("way/ln", 'link = "inner"')):  # fmt: skip
        place.write(
            "t.matrix.toml",
            f"""
            [program]
            launch = "true"
            [[matrix]]
            name = "m"
            line = "x"
            expect.exit = 0
            files.d = {{ copy = "tree" }}
            files."d/{name}" = {{ {put} }}
            """,
        )
        came = place.call("run")
        assert came.status == 3 and "a link, or something else that is not a directory, is in the way" in came.out, (
            name,
            came,
        )
        assert sorted(os.listdir(outside)) == ["sub"] and os.listdir(outside / "sub") == []


def test_what_a_link_in_place_of_the_directory_leads_to_is_not_kept(place: Place) -> None:
    hostile(place, "linked", "fine")
    place.write("t.matrix.toml", SPEC.format(words='"linked", "fine, too"').replace("expect.exit = 0", "expect.exit = 5"))
    came = place.call("run", "--keep-directories")
    assert came.status == 1 and "could not be saved" in came.out
    kept = {each["argv"][0]: each["kept"] for each in place.cases()}
    assert os.listdir(kept["fine, too"]) == [] and not list((place.directory / ".keen-matrix").rglob("precious"))


def tree(top: Path) -> Identity:
    (top / "a/b").mkdir(parents=True)
    (top / "a/f").write_text("x")
    os.mkfifo(top / "a/pipe")
    (top / "a/link").symlink_to(top.parent / "outside")
    return Identity.of(top.stat())


def test_a_tree_is_removed_whole_and_nothing_through_its_links(tmp_path: Path) -> None:
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside/precious").write_text("keep me")
    known = tree(tmp_path / "t")
    assert remove_tree(str(tmp_path / "t"), known) == "" and not (tmp_path / "t").exists()
    assert remove_tree(str(tmp_path / "t"), known) == "" and remove_tree(str(tmp_path / "no/such")) == ""
    tree(tmp_path / "t")
    other = Identity.of((tmp_path / "outside").stat())
    assert remove_tree(str(tmp_path / "t"), other) == "something else is in its place" and (tmp_path / "t/a/f").exists()
    (tmp_path / "l").symlink_to(tmp_path / "outside")
    assert remove_tree(str(tmp_path / "l")) == "" and not (tmp_path / "l").is_symlink()
    assert (tmp_path / "outside/precious").exists()


def test_a_deep_tree_takes_few_descriptors(tmp_path: Path) -> None:
    here = os.getcwd()
    os.mkdir(tmp_path / "t")
    os.chdir(tmp_path / "t")
    try:
        for _ in range(2100):
            os.mkdir("d")
            os.chdir("d")
    finally:
        os.chdir(here)
    gc.collect()  # what other tests have left open is closed now, or while it is counted
    before = len(os.listdir("/proc/self/fd")) if os.path.isdir("/proc/self/fd") else 0
    assert remove_tree(str(tmp_path / "t")) == "" and not (tmp_path / "t").exists()
    assert not before or len(os.listdir("/proc/self/fd")) == before


@pytest.mark.skipif(os.geteuid() != 0 or not os.path.isdir("/proc"), reason="needs a user to become another")
def test_an_ordinary_user_removes_locked_directories_and_leaves_what_is_not_hers(tmp_path: Path) -> None:
    tmp_path.chmod(0o777)
    for each in tmp_path.parents:
        if each != Path("/") and not each.stat().st_mode & 0o001:
            each.chmod(each.stat().st_mode | 0o011)
    foreign = tmp_path / "t"
    foreign.mkdir()
    os.chown(foreign, 65534, 65534)
    (foreign / "hers").mkdir()
    (foreign / "hers/file").write_text("x")
    read, write = os.pipe()
    pid = os.fork()
    if not pid:
        os.setgid(65534)
        os.setuid(65534)
        os.makedirs(foreign / "locked/a/b")
        (foreign / "locked/a/b/f").write_text("x")
        for name in ("locked/a/b", "locked/a", "locked"):
            os.chmod(foreign / name, 0)
        at = open_directory(str(tmp_path))
        os.write(write, remove_at(at, "t").encode())
        os._exit(0)
    os.waitpid(pid, 0)
    assert os.read(read, 100) == b"Permission denied"
    assert sorted(os.listdir(foreign)) == ["hers"] and os.listdir(foreign / "hers") == ["file"]
    os.close(read)
    os.close(write)


@pytest.mark.skipif(os.geteuid() != 0 or not shutil.which("mount"), reason="needs to mount")
def test_what_is_mounted_in_a_tree_is_left(tmp_path: Path) -> None:
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside/precious").write_text("keep me")
    (tmp_path / "t/m").mkdir(parents=True)
    words = ["mount", "--bind", str(tmp_path / "outside"), str(tmp_path / "t/m")]
    if subprocess.run(words, capture_output=True).returncode:
        pytest.skip("mounting is not allowed here")
    try:
        assert remove_tree(str(tmp_path / "t")) == "something is mounted there"
    finally:
        subprocess.run(["umount", str(tmp_path / "t/m")], check=True)
    assert (tmp_path / "outside/precious").read_text() == "keep me" and remove_tree(str(tmp_path / "t")) == ""


@pytest.mark.parametrize("kind", ["ValueError", "OSError", "SpecFault", "Misuse", "RunFault"])
def test_an_interruption_that_comes_back_as_an_error_is_one(place: Place, kind: str) -> None:
    """Compiled code may tell of the exception that a signal raised as of a fault of its own."""
    script = f"""
import os, signal
from keen_matrix import cli
from keen_matrix.core.errors import Misuse, RunFault, SpecFault
class Command:
    def main(options):
        try:
            os.kill(os.getpid(), signal.SIGINT)
        except KeyboardInterrupt:
            raise {kind}(())
cli.module_of = lambda name: Command
cli.build_parser = lambda chosen, alone: parser
from types import SimpleNamespace as Any
parser = Any(parse_known_args=lambda words: (Any(command="unfold"), []), commands={{}}, take_operands=lambda *_: [])
raise SystemExit(cli.main(["unfold"]))
"""
    came = subprocess.run([sys.executable, "-c", script], capture_output=True, cwd=place.directory, timeout=60)
    assert (came.returncode, came.stderr) == (130, b"keen-matrix: interrupted\n")
    ended = script.replace("except KeyboardInterrupt:", "except KeyboardInterrupt:\n            cli.interruption.begin_ending()")
    came = subprocess.run([sys.executable, "-c", ended], capture_output=True, cwd=place.directory, timeout=60)
    assert came.returncode != 130 and b"interrupted" not in came.stderr, "what fails once the end has begun is told"


SIGNALS = """\
import argparse, os, signal
os.kill(os.getppid(), signal.SIG{kind})
p = argparse.ArgumentParser(prog="p")
p.add_argument("-n", type=int)
p.add_argument("port")
print("ok", p.parse_args().port)
"""
SIGNALLED = """\
[program]
launch = "{python} {{here}}/p.py"
timeout = {timeout}
{more}
[signature]
synopsis = "[-n N] port"
values.N.type = "int"
derive = ["refusals"]
[[matrix]]
name = "m"
line = "{{port}}"
axes.port = ["a", "b"]
expect = {{ exit = 0, stdout = "ok {{port}}" }}
"""
PATHS = {
    "cold": ("run", "--cold"),
    "warm": ("run", "--warm"),
    "cluster": ("run", "--cluster", "local"),
    "settle": ("settle", "--launches", "5"),
    "draft": ("draft", "--", sys.executable, "p.py"),
    "try": ("try", "--", sys.executable, "p.py", "a"),
    "try a spec": ("try", "t.matrix.toml", "--", "a"),
    "narrow": ("narrow",),
    "places": ("places",),
    "replay": ("replay",),
}


@LINUX
@pytest.mark.long
@pytest.mark.parametrize("kind", ["KILL", "TERM", "INT", "STOP"])
@pytest.mark.parametrize("path", PATHS)
def test_what_a_program_does_to_its_parent_it_does_to_none_of_ours_on_any_path(place: Place, path: str, kind: str) -> None:
    temporary = place.directory / "tmp"
    temporary.mkdir()
    env = {"TMPDIR": str(temporary)}
    place.write("p.py", SIGNALS.format(kind=kind))
    place.write("t.matrix.toml", SIGNALLED.format(python=sys.executable, more="", timeout=1 if kind == "STOP" else 5))
    words = PATHS[path]
    if path in ("narrow", "places", "replay"):
        place.call("run", "--cold", env=env)
        words = (*words, place.cases()[0]["id"]) if path == "replay" else words
    came = place.call(*words, env=env, timeout=120)
    # Whatever it is said to be, it is said by us, and nobody has ended us or takes it for the user's doing.
    assert came.status in (0, 1, 2, 3) and "interrupted" not in came.out + came.err and came.out + came.err
    assert not list(temporary.glob("keen-matrix-*"))


@LINUX
@pytest.mark.parametrize("kind", ["KILL", "TERM", "STOP"])
@pytest.mark.parametrize("key", ["build", "once-before"])
def test_a_command_of_the_spec_that_signals_its_parent_hits_none_of_ours(place: Place, key: str, kind: str) -> None:
    place.write("p.py", SIGNALS.format(kind=kind).partition("p =")[0])
    place.write("t.matrix.toml", f"""[program]
launch = "echo"
{key} = "{sys.executable} {{here}}/p.py"
[[matrix]]
name = "m"
line = "a"
expect.exit = 0
""")
    came = place.call("run")
    assert came.status in (0, 3) and "interrupted" not in came.out + came.err and came.out + came.err
