"""The local interface of Kettle Tarn for Python, with the standard library alone. docs/editor-interface.md describes it.

    with Desk() as desk:
        where = desk.workspace_of("/home/rurik/brinelight/textures/rust.png")
        desk.call("begin", workspace=where.id, paths=[where.path], open=True)

As a program it says how a file stands, or does one thing with it:

    python3 desk.py state FILE
    python3 desk.py begin FILE
    python3 desk.py send FILE NOTE
    python3 desk.py follow FILE
"""

import collections
import itertools
import json
import os
import subprocess
import sys
import threading

Where = collections.namedtuple("Where", "id path folder project")


class Refused(Exception):
    """Nothing was done. refusals are dicts with path, reason (a stable word), message and remedy; code 3 says that no service answered."""

    def __init__(self, code, message, refusals):
        super().__init__("\n".join(r["message"] for r in refusals) or message)
        self.code = code
        self.refusals = refusals


class Desk:
    """A line to the desk of this machine, which is started where it does not run. Safe for several threads."""

    def __init__(self, program="tarn", hear=None):
        """hear(method, params), where it is given, gets what is told: changed, noticed, progress. It is called on a thread of its own."""
        self._hear = hear
        self._ids = itertools.count(1)
        self._lock = threading.Lock()
        self._waiting = {}
        self._ended = False
        self._process = subprocess.Popen([program, "editor"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, encoding="utf-8")
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self.close()

    def close(self):
        """Close the line. The desk goes on."""
        if self._process.stdin and not self._process.stdin.closed:
            self._process.stdin.close()
        self._process.wait(timeout=30)
        self._reader.join(timeout=5)

    def call(self, method, **params):
        """Call a method and wait for what it answers; raises Refused. A parameter named open_ stands for open, and so on."""
        params = {name.rstrip("_"): value for name, value in params.items()}
        answer = {"event": threading.Event()}
        with self._lock:
            if self._ended:
                raise Refused(3, "the desk has ended", [])
            number = next(self._ids)
            self._waiting[number] = answer
            line = json.dumps({"jsonrpc": "2.0", "id": number, "method": method, "params": params})
            self._process.stdin.write(line + "\n")
            self._process.stdin.flush()
        answer["event"].wait()
        error = answer.get("error")
        if error:
            raise Refused(error["code"], error["message"], (error.get("data") or {}).get("refusals") or [])
        return answer.get("result")

    def workspace_of(self, file):
        """The workspace that a file lies in, and its path there; None where it lies in none."""
        file = os.path.realpath(file)
        for w in self.call("workspaces")["workspaces"]:
            folder = os.path.realpath(w["folder"])
            if os.path.commonpath([folder, file]) == folder:
                return Where(w["workspace"], os.path.relpath(file, folder).replace(os.sep, "/"), folder, w["project"])
        return None

    def state_of(self, file):
        """How a file stands: an asset, as `tarn status --json` has it; None where it is none."""
        where = self.workspace_of(file)
        if where is None:
            return None
        for asset in self.call("status", workspace=where.id, paths=[where.path])["assets"]:
            if asset["path"] == where.path:
                return asset
        return None

    def _read(self):
        for line in self._process.stdout:
            message = json.loads(line)
            if "method" in message:
                if self._hear:
                    self._hear(message["method"], message.get("params"))
                continue
            with self._lock:
                answer = self._waiting.pop(message.get("id"), None)
            if answer:
                answer["result"], answer["error"] = message.get("result"), message.get("error")
                answer["event"].set()
        with self._lock:
            self._ended = True
            left, self._waiting = list(self._waiting.values()), {}
        for answer in left:
            answer["error"] = {"code": 3, "message": "the desk has ended"}
            answer["event"].set()


def words(asset, workspace):
    """A state in words, for a status line."""
    lock = asset.get("lock")
    holder = "free" if not lock else "yours" if lock["workspace_id"] == workspace else lock["holder"]
    return f"{asset.get('state', 'same')}, version {asset.get('version', 0)} of {asset['newest']}, {holder}"


def main(args):
    if len(args) < 2 or args[0] not in ("state", "begin", "send", "follow") or (args[0] == "send") != (len(args) == 3):
        print(__doc__, file=sys.stderr)
        return 2
    told = threading.Event()

    def hear(method, params):
        if method == "changed":
            for asset in params["assets"]:
                print(asset["path"], words(asset, params["workspace"]), flush=True)
            for path in params["away"]:
                print(path, "as it is at the service", flush=True)
        elif method == "noticed":
            print(params["message"], flush=True)
            if params["kind"] in ("sent", "refused"):
                told.set()

    with Desk(program=os.environ.get("TARN", "tarn"), hear=hear) as desk:
        where = desk.workspace_of(args[1])
        if where is None:
            print(f"{args[1]} lies in no workspace", file=sys.stderr)
            return 1
        try:
            if args[0] == "state":
                asset = desk.state_of(args[1])
                print(words(asset, where.id) if asset else "no asset")
            elif args[0] == "begin":
                got = desk.call("begin", workspace=where.id, paths=[where.path])
                for lock in got["locks"]:
                    print(lock["path"], "is yours")
            elif args[0] == "send":
                desk.call("follow", workspace=where.id)
                if desk.call("send", workspace=where.id, paths=[where.path], note=args[2]).get("job"):
                    told.wait(timeout=600)
                else:
                    print("there is nothing to send")
            else:
                desk.call("follow", workspace=where.id)
                threading.Event().wait()
        except Refused as refused:
            print(refused, file=sys.stderr)
            return refused.code
        except KeyboardInterrupt:
            pass
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
