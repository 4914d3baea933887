"""The application as it is really served, in a process of its own, for the benchmarks and the test
of sudden death."""

import os
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path


class Server:
    """A server with the demo show and its data in `folder`; `kill` ends it as a power cut would."""

    def __init__(self, folder: str, more: dict[str, str] | None = None):
        self.environment = os.environ | {"APERTURE_DATA": str(folder)} | (more or {})
        self.app = "web.config.wsgi"

    def __enter__(self):
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        for command in (["manage.py", "migrate", "-v", "0"], ["-m", "demo"]):
            subprocess.run(
                [sys.executable, *command],
                env=self.environment,
                check=True,
                stdout=subprocess.DEVNULL,
            )
        self.port = port
        self.address = f"http://127.0.0.1:{port}"
        self.start()
        return self

    def start(self):
        """Begin to serve, and wait until it answers."""
        self.process = subprocess.Popen(
            [
                str(Path(sys.executable).parent / "gunicorn"),
                "-c",
                "python:web.config.serving",
                self.app,
                "--bind",
                f"127.0.0.1:{self.port}",
                "--log-level",
                "critical",
            ],
            env=self.environment,
            stderr=subprocess.DEVNULL,  # the log of the data folder has it
            start_new_session=True,
        )
        while self.process.poll() is None:  # a busy machine may take its time
            try:
                urllib.request.urlopen(self.address + "/healthz", timeout=60).close()
                return
            except urllib.error.HTTPError:
                return  # it answers, be it that something is amiss, such as little room on the disk
            except OSError:
                time.sleep(0.1)
        raise RuntimeError("the server did not start")

    def kill(self):
        """SIGKILL to the server and all its processes."""
        os.killpg(self.process.pid, 9)
        self.process.wait()

    def __exit__(self, *_):
        if self.process.poll() is None:
            self.process.terminate()
            self.process.wait()
