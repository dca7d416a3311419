"""Kettle Tarn in an open modelling program: an add-on that shows how the open scene stands, begins it, and sends it.

Install it together with desk.py, in one folder (Preferences, Add-ons, Install; or a zip of both). It stands in the sidebar of the 3D view,
under "Tarn", and knows no more than docs/editor-interface.md says.
"""

import os
import sys
import threading

import bpy

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
import desk as tarn  # noqa: E402

bl_info = {
    "name": "Kettle Tarn",
    "description": "How the open scene stands with the team; begin it, and send it",
    "blender": (3, 0, 0),
    "version": (1, 0, 0),
    "location": "3D view, sidebar, Tarn",
    "category": "System",
}


class Scene:
    """What is known of the open file. Only the main thread touches it; what the desk tells on another one wakes that up."""

    def __init__(self):
        self.line = None
        self.where = None
        self.asset = None
        self.trouble = ""
        self.told = threading.Event()

    def desk(self):
        if self.line is None:
            self.line = tarn.Desk(program=os.environ.get("TARN", "tarn"), hear=lambda method, params: self.told.set())
        return self.line

    def call(self, method, **params):
        """Call the desk; with a line that has ended once more, over a new one."""
        try:
            return self.desk().call(method, **params)
        except (tarn.Refused, OSError) as gone:
            if isinstance(gone, tarn.Refused) and gone.refusals:
                raise
            self.close()
            return self.desk().call(method, **params)

    def look(self):
        """Ask how the open file stands now."""
        self.told.clear()
        self.where = self.asset = None
        self.trouble = ""
        if not bpy.data.filepath:
            return
        try:
            self.call("about")  # a line that has ended begins anew here
            self.where = self.desk().workspace_of(bpy.data.filepath)
            if self.where:
                self.call("follow", workspace=self.where.id)
                self.asset = self.desk().state_of(bpy.data.filepath)
        except (tarn.Refused, OSError) as e:
            self.trouble = str(e)

    def close(self):
        if self.line is not None:
            line, self.line = self.line, None
            try:
                line.close()
            except Exception:  # it has ended already
                pass

    def words(self):
        if self.trouble:
            return self.trouble
        if not bpy.data.filepath:
            return "not saved yet"
        if self.where is None:
            return "in no workspace"
        return tarn.words(self.asset, self.where.id) if self.asset else "no asset"


here = Scene()


class TARN_OT_begin(bpy.types.Operator):
    """Bring the newest version of this file, and take its lock"""

    bl_idname = "tarn.begin"
    bl_label = "Begin"

    def execute(self, context):
        if here.where is None:
            self.report({"ERROR"}, "This file lies in no workspace")
            return {"CANCELLED"}
        path, folder = here.where.path, here.where.folder
        try:
            got = here.call("begin", workspace=here.where.id, paths=[path])
        except tarn.Refused as e:
            self.report({"ERROR"}, str(e))
            return {"CANCELLED"}
        for head in got["heads_up"]:
            self.report({"WARNING"}, f"{head['handle']} has changes to it that were not sent")
        if any(a["path"] == path for a in got["brought"]):  # what is open is the version before
            bpy.ops.wm.open_mainfile(filepath=os.path.join(folder, *path.split("/")))
        here.look()
        self.report({"INFO"}, f"{path} is yours" if got["locks"] else here.words())
        return {"FINISHED"}


class TARN_OT_send(bpy.types.Operator):
    """Save this file, and hand it off to the team"""

    bl_idname = "tarn.send"
    bl_label = "Send"

    note: bpy.props.StringProperty(name="What was done, and why")
    without: bpy.props.BoolProperty(name="Leave behind what it names", description="Changed files that this one names stay here")

    def invoke(self, context, event):
        return context.window_manager.invoke_props_dialog(self, width=480)

    def execute(self, context):
        if here.where is None:
            self.report({"ERROR"}, "This file lies in no workspace")
            return {"CANCELLED"}
        if not self.note.strip():
            self.report({"ERROR"}, "Say in the note what was done, and why")
            return {"CANCELLED"}
        bpy.ops.wm.save_mainfile()
        try:
            got = here.call("send", workspace=here.where.id, paths=[here.where.path], note=self.note, without=self.without)
        except tarn.Refused as e:
            self.report({"ERROR"}, str(e))
            return {"CANCELLED"}
        if got["apart"]:
            names = ", ".join(sorted(a["to"] for a in got["apart"]))
            self.report({"ERROR"}, f"It names files that you changed, too: {names}. Send all of them at your desk, or leave them behind")
            return {"CANCELLED"}
        here.look()
        self.report({"INFO"}, "On its way" if got.get("job") else "There is nothing to send")
        return {"FINISHED"}


class TARN_PT_here(bpy.types.Panel):
    bl_idname = "TARN_PT_here"
    bl_label = "Kettle Tarn"
    bl_space_type = "VIEW_3D"
    bl_region_type = "UI"
    bl_category = "Tarn"

    def draw(self, context):
        self.layout.label(text=here.words())
        if here.where:
            self.layout.operator("tarn.begin")
            self.layout.operator("tarn.send")


def handler(*_):
    here.look()


handler = bpy.app.handlers.persistent(handler)


def refresh():
    """Look again where the desk has told something; twice a second is soon enough for a panel."""
    if here.told.is_set():
        here.look()
        for window in bpy.context.window_manager.windows:
            for area in window.screen.areas:
                area.tag_redraw()
    return 0.5


classes = (TARN_OT_begin, TARN_OT_send, TARN_PT_here)


def register():
    for c in classes:
        bpy.utils.register_class(c)
    bpy.app.handlers.load_post.append(handler)
    bpy.app.handlers.save_post.append(handler)
    bpy.app.timers.register(refresh, persistent=True)


def unregister():
    bpy.app.timers.unregister(refresh)
    bpy.app.handlers.save_post.remove(handler)
    bpy.app.handlers.load_post.remove(handler)
    for c in reversed(classes):
        bpy.utils.unregister_class(c)
    here.close()
