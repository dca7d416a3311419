"""Reads what `tarn project download KEY FILE` writes, with the standard library alone. docs/project-file.md describes it.

    python3 project_reader.py FILE check            hold every entry to its digest
    python3 project_reader.py FILE list             the handoffs, the first one first
    python3 project_reader.py FILE state h40 DIR    write the state as of a handoff, a branch or a milestone into a new folder
"""

import hashlib
import json
import os
import shutil
import sys
import tarfile


class Project:
    def __init__(self, name):
        try:
            self.tar = tarfile.open(name, "r:")
            self.entries = {m.name: m for m in self.tar}
        except tarfile.ReadError:
            self.entries = {}
        if "sha256.json" not in self.entries:
            raise SystemExit("this file is not whole: run the download again, and it goes on where it stopped")
        self.about = self.json("about.json")
        if self.about["format"] != 1:
            raise SystemExit(f"its format is {self.about['format']}, and this reads 1")
        names = sorted(n for n in self.entries if n.startswith("handoffs/"))
        self.handoffs = {h["number"]: h for h in map(self.json, names)}

    def open(self, name):
        return self.tar.extractfile(self.entries[name])

    def json(self, name):
        return json.load(self.open(name))

    def check(self):
        """What is wrong, in words; nothing where all is sound."""
        sums = self.json("sha256.json")["sha256"]
        for name in self.entries:
            if name != "sha256.json" and name not in sums:
                yield f"{name}: nobody says what it should be"
        for name, want in sums.items():
            if name not in self.entries:
                yield f"{name} is missing"
                continue
            got = hashlib.sha256()
            with self.open(name) as f:
                while block := f.read(1 << 20):
                    got.update(block)
            if got.hexdigest() != want:
                yield f"{name} is damaged"

    def number(self, state):
        """The handoff that a state is: h40, a branch, or a milestone."""
        if state[:1] == "h" and state[1:].isdigit():
            return int(state[1:])
        for m in self.json("records/milestones.json")["milestones"]:
            if m["name"] == state:
                return m["handoff"]
        on = [n for n, h in self.handoffs.items() if h["branch"] == state]
        if not on:
            raise SystemExit(f"there is no state {state}")
        return max(on)

    def state(self, number):
        """What a handoff holds: by path, the name of the content and whether it is executable."""
        line = []
        while True:
            h = self.handoffs[number]
            line.append(h)
            if not h["parents"]:
                break
            number = h["parents"][0]
        files = {}
        for h in reversed(line):
            for c in h["changes"]:
                if c.get("gone"):
                    files.pop(c["path"], None)
                else:
                    files[c["path"]] = c
        return files

    def write(self, files, folder):
        os.makedirs(folder)
        for path, c in files.items():
            parts = path.split("/")
            if any(p in ("", ".", "..") for p in parts):
                raise SystemExit(f"{path} is no path")
            name = os.path.join(folder, *parts)
            os.makedirs(os.path.dirname(name), exist_ok=True)
            with open(name, "xb") as out:
                if c.get("size"):
                    with self.open("contents/" + c["content"]) as f:
                        shutil.copyfileobj(f, out)
            if c.get("executable"):
                os.chmod(name, 0o755)


def main(args):
    if len(args) == 2 and args[1] == "check":
        wrong = list(Project(args[0]).check())
        print("\n".join(wrong) or "Everything is there and sound.")
        return 1 if wrong else 0
    if len(args) == 2 and args[1] == "list":
        for h in Project(args[0]).handoffs.values():
            print(f"h{h['number']}  {h['at'][:16]}  {h['author']}  {h['branch']}  {h['note'].splitlines()[0]}")
        return 0
    if len(args) == 4 and args[1] == "state":
        t = Project(args[0])
        t.write(t.state(t.number(args[2])), args[3])
        return 0
    print(__doc__, file=sys.stderr)
    return 2


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
