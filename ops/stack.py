"""Start, stop and reset the whole of Kind Echo on this machine: PostgreSQL, the web server, the workers."""

import fcntl
import os
import secrets
import shlex
import shutil
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from ops.cluster import Cluster, ClusterFailed, free_port, home_for, port_is_free

PROJECT = Path(__file__).resolve().parent.parent
SERVICES = ("web", "worker")
_FIRST_PORT = 8765
_IDLE_SECONDS = 60.0  # without any sign of work, after which the page is given up
_SAY_SECONDS = 10.0
_DATABASE_SECONDS = 120.0
_LOADING_SECONDS = 0.2
_ORPHAN_SECONDS = 30.0  # a worker finishes what it is at within twenty
_MARK = "KIND_ECHO_STACK"
"""In the environment of a supervisor and of all that it starts: which installation they belong to."""

DEMO_PERSON = "Nora F."
_RENDERERS = Path(os.environ.get("KIND_ECHO_RENDERERS", PROJECT / "examples" / "renderers.toml"))


@dataclass(frozen=True)
class _Activity:
    """What a service is at: its state in supervisor's words, processor time in clock ticks, bytes of its log."""

    state: str
    ticks: int
    log: int


@dataclass(frozen=True)
class Stack:
    """One installation: a folder for what it keeps, and where its programs are."""

    var: Path

    @property
    def config(self) -> Path:
        """Supervisor's configuration."""
        return self.var / "supervisord.conf"

    @property
    def cluster(self) -> Cluster | None:
        """The project's own PostgreSQL, or None when another server is named."""
        return None if os.environ.get("KIND_ECHO_DATABASE_URL") else Cluster(home_for(PROJECT))

    def start(self, *, demo: bool) -> str:
        """Start everything that is not running; the address at which the page answers.

        Args:
            demo: whether the demo is loaded; without it, the first start prints a link for the first account.
        """
        running = self.address() if self.running() else None
        if running and _answers(running):
            print("Kind Echo is running already.")
            if demo:  # which may have failed when it was started
                self._load_demo(self._environment(self._wait_for_database(), running))
            return running
        self.stop()  # with what a supervisor that was killed has left behind
        self.var.mkdir(parents=True, exist_ok=True)
        port = self._choose_port()
        (self.var / "port").write_text(str(port))
        self._write_config(_HEAD, self._database_program())
        command, marked = [_program("supervisord"), "-c", str(self.config)], os.environ | {_MARK: str(self.var)}
        subprocess.run(command, cwd=PROJECT, env=marked, check=True)
        url = self._wait_for_database()
        address = f"http://127.0.0.1:{port}"
        environment = self._environment(url, address)
        account = ["--no-account"] if demo else []
        said = subprocess.run(
            [_program("kind-echo"), "migrate", *account], env=environment, check=True, stdout=subprocess.PIPE, text=True
        )
        self._write_config(_HEAD, self._database_program(), self._services(port, self._service_urls(url, environment)))
        self._control("update")
        if demo:
            # Beside the web server and the workers, which take some seconds to load.
            self._load_demo(environment)
        self._wait_for_page(address)
        print(said.stdout, end="", flush=True)  # a link is told once it leads somewhere
        return address

    def _environment(self, url: str, address: str) -> dict[str, str]:
        """Of commands that are run beside the services."""
        return os.environ | {
            "KIND_ECHO_DATABASE_URL": url, "KIND_ECHO_RENDERERS": str(_RENDERERS), "KIND_ECHO_ADDRESS": address,
        }  # fmt: skip

    def _load_demo(self, environment: dict[str, str]) -> None:
        subprocess.run([_program("kind-echo"), "load-demo"], env=environment, check=True)

    def _wait_for_page(self, address: str) -> None:
        """Wait until the page answers, for as long as the web server is at something; say so now and then.

        A slow machine takes its time to load: only a server that has ended, or that has used no processor time and
        written no line for a while, is one that will not answer.
        """
        begun = said = moved = time.monotonic()
        last = self._web_activity()
        while not _answers(address):
            now, activity = time.monotonic(), self._web_activity()
            if activity.state in ("FATAL", "EXITED", "STOPPED"):
                raise SystemExit(f"The web server has ended ({activity.state.lower()}); see {self.var / 'web.log'}.")
            if (activity.ticks, activity.log) != (last.ticks, last.log):
                last, moved = activity, now
            if now - moved > _IDLE_SECONDS:
                idle = f"The web server has done nothing for {_IDLE_SECONDS:.0f} s, and the page does not answer"
                raise SystemExit(f"{idle}; see {self.var / 'web.log'}.")
            if now - said > _SAY_SECONDS:
                said = now
                print(f"Waiting for the page: the web server is {activity.state.lower()}, {now - begun:.0f} s so far")
            time.sleep(0.1)

    def _web_activity(self) -> "_Activity":
        """What supervisor says of the web server, and how much its processes have done."""
        words = self._control("status", "web").stdout.decode().split()
        log = self.var / "web.log"
        ticks = sum(_ticks(pid) for pid in _family(int(words[3].rstrip(",")))) if "pid" in words else 0
        return _Activity(words[1] if len(words) > 1 else "UNKNOWN", ticks, log.stat().st_size if log.exists() else 0)

    def stop(self) -> None:
        """Stop workers, web server and the project's PostgreSQL; what they keep stays."""
        if self.running():
            process = Path("/proc") / self._control("pid").stdout.decode().strip()
            self._control("shutdown")
            deadline = time.monotonic() + 90
            # It stops to answer some time before it is gone and its socket is free.
            while process.exists() and time.monotonic() < deadline:
                time.sleep(0.1)
        self._end_orphans()
        if self.cluster is not None and self.cluster.exists():
            self.cluster.stop()

    def _end_orphans(self) -> None:
        """End programs of this installation that no supervisor has any more: it was killed before they were."""
        left = orphans(self.var)
        for how, seconds in ((signal.SIGTERM, _ORPHAN_SECONDS), (signal.SIGKILL, _ORPHAN_SECONDS)):
            for process in left:
                with suppress(ProcessLookupError):
                    os.kill(process, how)
            deadline = time.monotonic() + seconds
            while (left := orphans(self.var)) and time.monotonic() < deadline:
                time.sleep(0.1)
        if left:
            raise SystemExit(f"Processes {', '.join(map(str, left))} of an earlier start cannot be ended.")

    def reset(self) -> None:
        """Stop, and remove the project's database with all that is in it."""
        self.stop()
        if self.cluster is None:
            raise SystemExit("KIND_ECHO_DATABASE_URL names a server that is not the project's; it was left alone.")
        shutil.rmtree(self.cluster.folder, ignore_errors=True)

    def demo_link(self, person: str) -> str | None:
        """A link that signs a person in, once and on this machine alone; None if there is no such account."""
        cluster = self.cluster
        url = cluster.url if cluster is not None else os.environ["KIND_ECHO_DATABASE_URL"]
        environment = os.environ | {"KIND_ECHO_DATABASE_URL": url, "KIND_ECHO_ADDRESS": self.address() or ""}
        command = [_program("kind-echo"), "people", "demo-link", person]
        done = subprocess.run(command, env=environment, check=False, capture_output=True, text=True)
        return done.stdout.strip() if done.returncode == 0 else None

    def running(self) -> bool:
        """Whether supervisor answers."""
        return self.config.exists() and self._control("pid").returncode == 0

    def address(self) -> str | None:
        """Where the page was last served."""
        saved = self.var / "port"
        return f"http://127.0.0.1:{saved.read_text()}" if saved.exists() else None

    def _database_program(self) -> str:
        """The project's own PostgreSQL as supervisor runs it; nothing where another server is named."""
        cluster = self.cluster
        if cluster is None:
            return ""
        cluster.create()
        # While it runs its port stays as it is: the configuration that is written again must be the same.
        port = int((cluster.folder / "port").read_text()) if cluster.running() else cluster.last_port()
        account = cluster.account()
        return _DATABASE.format(
            command=_with_parent("INT", shlex.join(cluster.command(port)).replace("%", "%%")),
            account=f"user={account}" if account else "",
            var=self.var,
        )

    def _wait_for_database(self) -> str:
        """Its address, once it answers. Raises SystemExit when it does not."""
        cluster = self.cluster
        if cluster is None:
            return os.environ["KIND_ECHO_DATABASE_URL"]
        deadline = time.monotonic() + _DATABASE_SECONDS
        while not cluster.answers():
            if time.monotonic() > deadline:
                raise SystemExit(f"PostgreSQL does not answer; see {self.var / 'database.log'}.")
            time.sleep(0.1)
        cluster.make_database()
        return cluster.url

    def _service_urls(self, url: str, environment: dict[str, str]) -> dict[str, str]:
        """The web server's and the workers' own addresses of the database, with the rights that each must have."""
        cluster = self.cluster
        if cluster is None:
            return dict.fromkeys(SERVICES, url)  # a server of others: its roles are theirs to make
        urls = {service: cluster.role_url(f"kind_echo_{service}") for service in SERVICES}
        names = [f"--{service}=kind_echo_{service}" for service in SERVICES]
        subprocess.run([_program("kind-echo"), "grant", *names], env=environment, check=True, stdout=subprocess.DEVNULL)
        return urls

    def _secret_file(self) -> Path:
        """The file with the key that signs sessions, made the first time."""
        path = self.var / "secret"
        if not path.exists():
            path.touch(mode=0o600)
            path.write_text(secrets.token_urlsafe(48))
        return path

    def _choose_port(self) -> int:
        saved = self.var / "port"
        wished = int(saved.read_text()) if saved.exists() else _FIRST_PORT
        return wished if port_is_free(wished) else free_port()

    def _control(self, *arguments: str) -> subprocess.CompletedProcess[bytes]:
        command = [_program("supervisorctl"), "-c", str(self.config), *arguments]
        return subprocess.run(command, capture_output=True, check=False)

    def _services(self, port: int, urls: dict[str, str]) -> str:
        return _SERVICES.format(
            var=self.var,
            project=PROJECT,
            web_url=urls["web"].replace("%", "%%"),
            worker_url=urls["worker"].replace("%", "%%"),
            secret=self._secret_file(),
            # Killed, not asked: a worker may wait for a database that has died with it. What it was at is begun again.
            program=_with_parent("KILL", _program("kind-echo")),
            port=port,
            workers=max(1, os.cpu_count() or 1),
            renderers=_RENDERERS,
        )

    def _write_config(self, head: str, *programs: str) -> None:
        account = "user=root" if os.geteuid() == 0 else ""
        self.config.touch(mode=0o600)  # it holds the database's password
        self.config.write_text(head.format(var=self.var, account=account) + "".join(programs))


_HEAD = """\
[supervisord]
logfile={var}/supervisord.log
pidfile={var}/supervisord.pid
childlogdir={var}
{account}
[unix_http_server]
file={var}/supervisor.sock
chmod=0700
[rpcinterface:supervisor]
supervisor.rpcinterface_factory=supervisor.rpcinterface:make_main_rpcinterface
[supervisorctl]
serverurl=unix://{var}/supervisor.sock
"""
# Begun first and stopped last. Killed, it is started again: its children must be gone before, hence the many tries.
_DATABASE = """\
[program:database]
command={command}
{account}
directory=/
priority=1
autorestart=true
startretries=1000
stopsignal=INT
stopwaitsecs=30
redirect_stderr=true
stdout_logfile={var}/database.log
"""
_SERVICES = """\
[program:web]
command={program} serve --bind 127.0.0.1:{port}
directory={project}
environment=KIND_ECHO_DATABASE_URL="{web_url}",KIND_ECHO_SECRET_FILE="{secret}"
redirect_stderr=true
stdout_logfile={var}/web.log
startretries=1000
stopasgroup=true
killasgroup=true
[program:worker]
command={program} worker
process_name=worker-%(process_num)d
numprocs={workers}
directory={project}
environment=KIND_ECHO_DATABASE_URL="{worker_url}",KIND_ECHO_ADDRESS="http://127.0.0.1:{port}",KIND_ECHO_RENDERERS="{renderers}",OMP_NUM_THREADS="1",OPENBLAS_NUM_THREADS="1"
redirect_stderr=true
stdout_logfile={var}/worker-%(process_num)d.log
autorestart=true
startretries=1000
stopwaitsecs=30
stopasgroup=true
killasgroup=true
"""


def _with_parent(how: str, command: str) -> str:
    """A command that is told to end, by that signal, when its supervisor dies; where the system can do so."""
    return command if shutil.which("setpriv") is None else f"setpriv --pdeathsig {how} -- {command}"


def orphans(var: Path) -> list[int]:
    """The processes of an installation that run: its supervisor's, or what one that was killed has left behind."""
    found = _marked(var)
    if not found:
        time.sleep(_LOADING_SECONDS)  # a program that is being loaded shows no environment
        found = _marked(var)
    return found


def _marked(var: Path) -> list[int]:
    mark = f"{_MARK}={var}".encode()
    found = []
    for folder in Path("/proc").iterdir():
        if not folder.name.isdigit():
            continue
        try:
            marked = mark in (folder / "environ").read_bytes().split(b"\0")
        except OSError:
            continue  # it is gone, or somebody else's
        if marked:
            found.append(int(folder.name))
    return found


def _program(name: str) -> str:
    return str(PROJECT / ".venv" / "bin" / name)


def _family(pid: int) -> list[int]:
    """A process and its children."""
    try:
        children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        children = []
    return [pid, *map(int, children)]


def _ticks(pid: int) -> int:
    """Processor time of a process in clock ticks, its own and the system's for it; 0 when it is gone."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return 0
    return int(fields[11]) + int(fields[12])


def _answers(address: str) -> bool:
    try:
        with urllib.request.urlopen(f"{address}/readyz", timeout=2) as response:
            return bool(response.status == 200)
    except (urllib.error.URLError, OSError):
        return False


@contextmanager
def _one_at_a_time(var: Path) -> Iterator[None]:
    """Of two that start or stop the same installation, the second waits for the first."""
    var.mkdir(parents=True, exist_ok=True)
    with (var / "lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            print("Kind Echo is being started or stopped by another command; waiting for it.", flush=True)
            fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def main() -> None:
    """start, demo, stop or reset."""
    stack = Stack(PROJECT / "var")
    with _one_at_a_time(stack.var):
        _do(stack, sys.argv[1])


def _do(stack: Stack, what: str) -> None:
    try:
        if what in ("start", "demo"):
            address = stack.start(demo=what == "demo")
            print(f"Kind Echo is at {address}")
            link = stack.demo_link(DEMO_PERSON)
            if link is not None:
                print(f"Sign in as {DEMO_PERSON}, once, on this machine: {link}")
            elif what == "demo":
                print("This installation has accounts of its own, so the demo's people were not added.")
                print("Sign in with one of those, or begin anew with 'make reset' and 'make demo'.")
        elif what == "stop":
            stack.stop()
            print("Stopped. What was kept is kept; 'make start' or 'make demo' starts it again.")
        elif what == "reset":
            stack.reset()
            print("Stopped, and the database removed.")
    except (ClusterFailed, subprocess.CalledProcessError) as error:
        raise SystemExit(str(error)) from error


if __name__ == "__main__":
    main()
