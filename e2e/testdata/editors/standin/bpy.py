"""A stand-in for the interface of an open modelling program: what the add-on in examples uses of it, and no more."""

import os
import sys
import types as _types


class Operator:
    def report(self, kind, text):
        print(f"{sorted(kind)[0].capitalize()}: {text}")
        if "ERROR" in kind:
            self._error = text


class Panel:
    pass


class _Ops:
    """The operators that were registered, by their ids; one that reports an error raises it to a script."""

    def __init__(self, group=""):
        self._group, self._known = group, {}

    def __getattr__(self, name):
        if name.startswith("_"):
            raise AttributeError(name)
        if name not in self._known and not self._group:
            self._known[name] = _Ops(name)
        return self._known[name]

    def _add(self, cls):
        def run(**given):
            o = cls()
            for name, kind in cls.__annotations__.items() if "__annotations__" in cls.__dict__ else ():
                setattr(o, name, given.get(name, kind))
            o._error = ""
            done = o.execute(context)
            if o._error:
                raise RuntimeError("Error: " + o._error)
            return done

        self._known[cls.bl_idname.split(".")[1]] = run


class _Files:
    def save_as_mainfile(self, filepath, copy=False):
        _Files.saved = getattr(_Files, "saved", 0) + 1
        with open(filepath, "w", encoding="utf-8") as f:
            f.write(f"scene, saved {_Files.saved} times, by {os.getpid()}\n")
        if not copy:
            data.filepath = filepath
            for h in app.handlers.save_post:
                h(None)

    def save_mainfile(self):
        self.save_as_mainfile(data.filepath)

    def open_mainfile(self, filepath):
        with open(filepath, encoding="utf-8") as f:
            data.text = f.read()
        data.filepath = filepath
        for h in app.handlers.load_post:
            h(None)


class props:
    @staticmethod
    def StringProperty(name="", default="", **_):
        return default

    @staticmethod
    def BoolProperty(name="", default=False, **_):
        return default


types = _types.SimpleNamespace(Operator=Operator, Panel=Panel)
data = _types.SimpleNamespace(filepath="", text="")
context = _types.SimpleNamespace(window_manager=_types.SimpleNamespace(windows=[]))
ops = _Ops()
ops._known["wm"] = _Files()
app = _types.SimpleNamespace(
    handlers=_types.SimpleNamespace(load_post=[], save_post=[], persistent=lambda f: f),
    timers=_types.SimpleNamespace(register=lambda f, **_: None, unregister=lambda f: None),
)
_classes = []


def _register(cls):
    _classes.append(cls)
    if hasattr(cls, "execute"):
        getattr(ops, cls.bl_idname.split(".")[0])._add(cls)


utils = _types.SimpleNamespace(register_class=_register, unregister_class=_classes.remove)
