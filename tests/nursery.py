"""Processes of the program without the wait for its imports: one that has them forks the others.

Each run is a process of its own, with its own memory, standard streams, folder, environment and
end (a kill included); only what `import` would do again each time is shared. Tests of the start
itself begin the interpreter afresh instead.
"""

import atexit
import contextlib
import gc
import importlib
import json
import os
import pkgutil
import runpy
import signal
import socket
import subprocess
import sys
import threading
import traceback
import types
from pathlib import Path
from subprocess import PIPE

LIBRARIES = (
    "scipy.interpolate", "scipy.linalg",
    "scipy.optimize", "scipy.spatial", "scipy.special", "scipy.stats", "jinja2", "serial",
)  # fmt: skip


class Process:
    """One run; `words` are the interpreter's: -m MODULE or -c TEXT and their arguments."""

    def __init__(self, words, stdin=None, stdout=PIPE, stderr=None, env=None, cwd=None):
        pipes, theirs = [], []
        for number, asked in enumerate((stdin, stdout, stderr)):
            pipe, fd = None, os.dup(number)
            if asked is PIPE:
                os.close(fd)
                ours, fd = os.pipe() if number else os.pipe()[::-1]
                pipe = os.fdopen(ours, "r" if number else "w", encoding="utf-8")
            theirs.append(fd)
            pipes.append(pipe)
        self.stdin, self.stdout, self.stderr = pipes
        env, cwd = env or dict(os.environ), str(cwd or Path.cwd())
        status, told = os.pipe()
        job = json.dumps({"words": words, "env": env, "cwd": cwd}).encode()
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
            line.connect(nursery())
            socket.send_fds(line, [len(job).to_bytes(4, "big")], [*theirs, told])
            line.sendall(job)
        for fd in (*theirs, told):
            os.close(fd)
        self._status = os.fdopen(status, encoding="ascii")
        self.pid = int(self._status.readline())
        self.returncode = None

    def wait(self):
        if self.returncode is None:
            with self._status:
                self.returncode = int(self._status.readline())
        return self.returncode

    def running(self):
        """Whether it has not ended."""
        try:
            os.kill(self.pid, 0)
        except ProcessLookupError:
            return False
        return True

    def kill(self):
        self.send_signal(signal.SIGKILL)

    def send_signal(self, number):
        if self.running():
            os.kill(self.pid, number)

    def communicate(self):
        """What it still says, on both streams; closes all."""
        said = ["", ""]

        def hear():
            said[1] = self.stderr.read()

        other = threading.Thread(target=hear if self.stderr else lambda: None)
        other.start()
        said[0] = self.stdout.read()
        other.join()
        self.wait()
        self.close()
        return said

    def close(self):
        for pipe in (self.stdin, self.stdout, self.stderr):
            if pipe is not None:
                pipe.close()


def run(words, env=None, cwd=None):
    """A run to its end, as `subprocess.run` tells it."""
    born = Process(words, stderr=PIPE, env=env, cwd=cwd)
    out, err = born.communicate()
    return subprocess.CompletedProcess(words, born.returncode, out, err)


_path = []


def nursery():
    """Where the one of this test process listens; begun at the first run."""
    if not _path:
        command = [sys.executable, __file__, str(os.getpid())]
        made = subprocess.Popen(command, stdout=PIPE, text=True)
        _path.append(made.stdout.readline().strip())
        atexit.register(_over, made)
    return "\0" + _path[0]


def _over(made):
    made.kill()
    made.wait()
    made.stdout.close()


def _warm():
    import tallgrain

    for found in pkgutil.walk_packages(tallgrain.__path__, "tallgrain."):
        if not found.name.startswith(("tallgrain.ui", "tallgrain.__main__")):
            importlib.import_module(found.name)
    for name in LIBRARIES:
        importlib.import_module(name)


def _serve(owner):
    """Fork a process for each job that comes; returns in that process, with its job."""
    _warm()
    gc.freeze()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    name = f"tallgrain-nursery-{owner}-{os.getpid()}"
    server = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    server.bind("\0" + name)
    server.listen(64)
    print(name, flush=True)
    server.settimeout(1.0)
    while os.getppid() == owner:
        try:
            line, _ = server.accept()
        except TimeoutError:
            continue
        with line:
            line.settimeout(None)
            head, fds, _, _ = socket.recv_fds(line, 4, 4)
            left, parts = int.from_bytes(head, "big"), []
            while left:
                parts.append(line.recv(left))
                left -= len(parts[-1])
        if os.fork() == 0:
            line.close()
            server.close()
            _keep(fds[3])
            return json.loads(b"".join(parts)), fds[:3]
        for fd in fds:
            os.close(fd)
    os._exit(0)


def _keep(told):
    """Fork once more: the child goes on, its parent tells its number and how it ended."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    pid = os.fork()
    if pid == 0:
        os.close(told)
        return
    os.write(told, f"{pid}\n".encode())
    os.closerange(3, told)
    os.closerange(told + 1, 256)
    null = os.open(os.devnull, os.O_RDWR)
    for fd in range(3):
        os.dup2(null, fd)
    _, status = os.waitpid(pid, 0)
    os.write(told, f"{os.waitstatus_to_exitcode(status)}\n".encode())
    os._exit(0)


def _become(job, fds):
    """Be a fresh interpreter with these words."""
    for number, fd in enumerate(fds):
        os.dup2(fd, number)
        os.close(fd)
    sys.stdin = os.fdopen(0, encoding="utf-8", closefd=False)
    sys.stdout = os.fdopen(1, "w", encoding="utf-8", closefd=False)
    sys.stderr = os.fdopen(2, "w", 1, encoding="utf-8", errors="backslashreplace", closefd=False)
    os.environ.clear()
    os.environ.update(job["env"])
    os.chdir(job["cwd"])
    code = 1
    try:
        _run(job["words"])
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else int(end.code is not None)
    except BaseException:  # noqa: BLE001
        traceback.print_exc()
    finally:
        # All that the interpreter does at its end, but for freeing each of its objects.
        threading._shutdown()
        atexit._run_exitfuncs()
        with contextlib.suppress(OSError, ValueError):
            sys.stdout.flush()
        os._exit(code)


def _run(words):
    how, what, *rest = words
    sys.argv = [what if how == "-m" else how, *rest]
    if how == "-m":
        runpy.run_module(what, run_name="__main__", alter_sys=True)
    else:
        fresh = sys.modules["__main__"] = types.ModuleType("__main__")
        exec(compile(what, "<string>", "exec"), fresh.__dict__)


if __name__ == "__main__":
    _become(*_serve(int(sys.argv[1])))
