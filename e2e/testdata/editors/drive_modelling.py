"""Plays an artist at a modelling program with the add-on: a first pass is sent and begun again; then somebody else's version is begun.

drive_modelling.py ADDON SCENE first OTHER    saves the scene, and another one as OTHER
drive_modelling.py ADDON SCENE second
"""

import importlib.util
import sys
import time

import bpy

given = sys.argv[1:]
spec = importlib.util.spec_from_file_location("modelling_addon", given[0])
addon = importlib.util.module_from_spec(spec)
spec.loader.exec_module(addon)
addon.register()
scene = given[1]


def until(wanted):
    """Look until the file stands so."""
    for _ in range(200):
        addon.here.look()
        if wanted in addon.here.words():
            print("WORDS", addon.here.words(), flush=True)
            return
        time.sleep(0.1)
    sys.exit(f"it is {addon.here.words()!r}, and not {wanted!r}")


if given[2] == "first":
    bpy.ops.wm.save_as_mainfile(filepath=scene)
    if addon.here.where is None:
        sys.exit("saving did not make the add-on look")
    until("new")
    bpy.ops.wm.save_as_mainfile(filepath=given[3], copy=True)
    bpy.ops.tarn.send(note="A lamp, first pass")
    until("same, version 1 of 1, free")
    bpy.ops.tarn.begin()
    until("yours")
else:
    bpy.ops.wm.open_mainfile(filepath=scene)
    until("version 1 of 2")
    try:
        bpy.ops.tarn.send(note="")
    except RuntimeError as e:
        print("REFUSED", e, flush=True)
    bpy.ops.tarn.begin()
    until("same, version 2 of 2, yours")
addon.unregister()
