"""Kettle Tarn in an open board editor: three commands in its menu of plug-ins, for the open board and the files that belong to it.

Put it together with desk.py into the editor's folder of plug-ins. A board's schematic and fabrication files come along where the project's
rules tie them together as a set. It knows no more than docs/editor-interface.md says.
"""

import os
import sys

import pcbnew

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
import desk as tarn  # noqa: E402


def tell(text):
    """Say something in a window."""
    import wx

    wx.MessageBox(text, "Kettle Tarn")


def ask(question):
    """Ask for a line of text; "" where there is none."""
    import wx

    with wx.TextEntryDialog(None, question, "Kettle Tarn") as dialog:
        return dialog.GetValue() if dialog.ShowModal() == wx.ID_OK else ""


class OfBoard(pcbnew.ActionPlugin):
    """A command for the open board. do(desk, where) does it, and returns what there is to say."""

    command = about = ""

    def defaults(self):
        self.name = f"Kettle Tarn: {self.command}"
        self.category = "Kettle Tarn"
        self.description = self.about
        self.show_toolbar_button = False

    def Run(self):
        board = pcbnew.GetBoard()
        file = board.GetFileName() if board else ""
        if not file:
            tell("Save the board first.")
            return
        try:
            with tarn.Desk(program=os.environ.get("TARN", "tarn")) as desk:
                where = desk.workspace_of(file)
                tell(self.do(desk, where, file) if where else "This board lies in no workspace.")
        except (tarn.Refused, OSError) as e:
            tell(str(e))


class State(OfBoard):
    command, about = "how it stands", "How the open board stands with the team"

    def do(self, desk, where, file):
        asset = desk.state_of(file)
        return f"{where.path}: {tarn.words(asset, where.id)}" if asset else f"{where.path}: no asset"


class Begin(OfBoard):
    command, about = "begin", "Bring the newest version of the board and what belongs to it, and take the locks"

    def do(self, desk, where, file):
        got = desk.call("begin", workspace=where.id, paths=[where.path], set=True)
        lines = [f"{lock['path']} is yours" for lock in got["locks"]]
        lines += [f"{a['path']}: a newer version came, open it anew" for a in got["brought"]]
        lines += [f"{h['handle']} has changes to {h['path']} that were not sent" for h in got["heads_up"]]
        return "\n".join(lines + [r["message"] for r in got["refusals"]])


class Send(OfBoard):
    command, about = "send", "Hand off the saved board and what belongs to it"

    def do(self, desk, where, file):
        note = ask("What was done, and why?")
        if not note.strip():
            return "Nothing was sent: the team reads in the note what was done."
        got = desk.call("send", workspace=where.id, paths=[where.path], note=note, set=True)
        if got["apart"]:
            return "It names files that you changed, too. Send all of them at your desk: " + ", ".join(a["to"] for a in got["apart"])
        return "On its way." if got.get("job") else "There is nothing to send."


for plugin in (State, Begin, Send):
    plugin().register()
