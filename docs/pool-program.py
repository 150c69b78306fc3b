#!/usr/bin/env python3
"""A program that makes machines for a pool of Ordotaxis (`ordotaxis pool schema` says what is asked and answered).

Copy it, and put your cloud's or hypervisor's own calls into the four functions below. As it is, a "machine" is a process of this
computer in a folder of its own, so that it can be tried: `ordotaxis pool try ./pool-program.py`.
"""
import json, os, pathlib, shutil, signal, subprocess, sys, tempfile

HOME = pathlib.Path(tempfile.gettempdir()) / f"pool-machines-{os.getuid()}"


def make(name, size, environment):
    """Starts a machine of this name that runs `ordotaxis runner join` with these variables; none more if it is there."""
    folder = HOME / name
    if (folder / "pid").exists():
        return "it is there already"
    folder.mkdir(parents=True, mode=0o700)
    with open(folder / "console", "w") as console:
        command = [os.environ.get("ORDOTAXIS", "ordotaxis"), "runner", "join", "--dir", str(folder / "runner")]
        process = subprocess.Popen(command, env={**os.environ, **environment}, stdout=console, stderr=console, start_new_session=True)
    (folder / "pid").write_text(str(process.pid))
    return f"process {process.pid}"


def machines():
    """Every machine that this program has made and that was not removed: its name, its state, and a word about it."""
    for folder in sorted(HOME.glob("*")) if HOME.exists() else []:
        pid = int((folder / "pid").read_text())
        yield {"name": folder.name, "state": "running" if os.path.exists(f"/proc/{pid}") else "ended", "words": f"process {pid}"}


def remove(name):
    """Ends a machine, whatever it does. One that is not there is removed."""
    folder = HOME / name
    if folder.exists():
        try:
            os.killpg(int((folder / "pid").read_text()), signal.SIGKILL)
        except ProcessLookupError:
            pass
        shutil.rmtree(folder)


def console(name):
    """The last of what it wrote."""
    return (HOME / name / "console").read_text(errors="replace")[-60000:]


def answer(question):
    if question.get("version") != 1:
        return {"refused": "this program speaks version 1 of the protocol"}
    ask, name = question["ask"], question.get("name", "")
    if ask == "make":
        size = {key: question[key] for key in ("cores", "memory_mib", "gpus", "lasts_s")}
        return {"made": {"words": make(name, size, question["join"])}}
    if ask == "list":
        return {"machines": list(machines())}
    if ask == "remove":
        remove(name)
        return {"removed": True}
    return {"console": console(name)}


try:
    print(json.dumps({"version": 1, **answer(json.load(sys.stdin))}))
except OSError as error:  # nothing was made: say so, and why
    print(json.dumps({"version": 1, "refused": str(error)}))
