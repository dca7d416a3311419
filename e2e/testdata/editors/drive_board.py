"""Plays a board designer at a board editor with the add-on: drive_board.py ADDON BOARD. What it says goes to standard output."""

import importlib.util
import sys
import time

import pcbnew

addon, board = sys.argv[1:]
known = []
register = pcbnew.ActionPlugin.register
pcbnew.ActionPlugin.register = lambda self: (known.append(self), register(self))
spec = importlib.util.spec_from_file_location("board_addon", addon)
module = importlib.util.module_from_spec(spec)
spec.loader.exec_module(module)
said = []
module.tell = said.append
loaded = pcbnew.LoadBoard(board)
state, begin, send = known


def run(plugin, answer=""):
    module.ask = lambda question: answer
    plugin.Run()
    print(said[-1], flush=True)
    return said[-1]


pcbnew.GetBoard = lambda: None
run(state)
pcbnew.GetBoard = lambda: loaded
for _ in range(200):
    if "same, version 1 of 1, free" in run(state):
        break
    time.sleep(0.1)
run(begin)
with open(board, "a", encoding="utf-8") as f:
    f.write("\n")
for _ in range(200):
    if "edited" in run(state):
        break
    time.sleep(0.1)
run(send)
run(send, "A wider trace")
