"""Commands of the suite, each in a process of its own: forked from one that has the libraries loaded, which spares every command seconds.

What needs the installed program itself (signals, pipes, terminals, how it starts) calls `CHAFF` with `subprocess`.
"""

from __future__ import annotations

import atexit
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

CHAFF = Path(sys.executable).parent / "chaff"
ENV = {**os.environ, "COLUMNS": "200", "NO_COLOR": "1"}
SECONDS = 300  # of one command

_server: subprocess.Popen[str] | None = None


def call(*args: object, cwd: object = None, env: dict[str, str] | None = None, stdin: str = "") -> subprocess.CompletedProcess[str]:
    """`chaff ARGS…` and what came of it; `stdin` is what a person types."""
    with tempfile.TemporaryDirectory(prefix="chaff-call-") as folder:
        typed, out, err = (f"{folder}/{name}" for name in ("in", "out", "err"))
        Path(typed).write_text(stdin, encoding="utf-8")
        order = {"args": [str(a) for a in args], "cwd": str(cwd or os.getcwd()), "env": env or ENV, "in": typed, "out": out, "err": err}
        server = _started()
        assert server.stdin is not None and server.stdout is not None
        server.stdin.write(json.dumps(order) + "\n")
        server.stdin.flush()
        code = int(server.stdout.readline())
        texts = [Path(p).read_text(encoding="utf-8", errors="replace") for p in (out, err)]
        return subprocess.CompletedProcess(order["args"], code, *texts)


def run(*args: object, cwd: object = None, code: int = 0) -> str:
    """What a command writes: its answer, or its message where it is to end with `code`."""
    done = call(*args, cwd=cwd)
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done.stderr if code else done.stdout


def _started() -> subprocess.Popen[str]:
    global _server
    if _server is None or _server.poll() is not None:
        _server = subprocess.Popen([sys.executable, __file__], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=ENV)
        atexit.register(_server.kill)
    return _server


def _serve() -> None:
    """Fork for every line of stdin; the child is the command."""
    import importlib
    import pkgutil

    import matplotlib.pyplot  # noqa: F401  what commands load, before the first of them

    import chaff
    from chaff.cli.process_setup import set_up_process

    set_up_process()
    for module in pkgutil.walk_packages(chaff.__path__, "chaff."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    answers = os.fdopen(os.dup(1), "w")
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    _warm_up()
    for line in sys.stdin:
        order = json.loads(line)
        child = os.fork()
        if child == 0:
            _command(order)
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        answers.write(f"{code}\n")
        answers.flush()


def _warm_up() -> None:
    """Load the kernels that nearly every command runs."""
    import chaff
    from chaff.cli.main import main

    with tempfile.TemporaryDirectory() as folder:
        chaff.demo.lots(rows=120).to_csv(f"{folder}/lots.csv", index=False)
        roles = ("--target", "loaf_volume", "--ignore", "accepted", "--ignore", "grade", "--groups", "mill", "--workers", "1")
        for command in ("overlap", "relevance"):
            main([command, f"{folder}/lots.csv", *roles, "--format", "json"])


def _command(order: dict[str, object]) -> None:
    import signal

    from chaff.cli.main import entry

    for number, path in ((0, order["in"]), (1, order["out"]), (2, order["err"])):
        opened = os.open(str(path), os.O_RDONLY if number == 0 else os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        os.dup2(opened, number)
    sys.stdin, sys.stdout, sys.stderr = (open(n, "r" if n == 0 else "w", encoding="utf-8", closefd=False) for n in range(3))  # noqa: SIM115
    os.environ.clear()
    os.environ.update(order["env"])
    os.chdir(str(order["cwd"]))
    sys.argv = [str(CHAFF), *order["args"]]
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.alarm(SECONDS)
    try:
        entry()
    except SystemExit as end:
        os._exit(int(end.code or 0))
    finally:
        os._exit(70)


if __name__ == "__main__":
    sys.path[0] = ""  # this folder holds modules named like others
    _serve()
