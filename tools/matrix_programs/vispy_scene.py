"""Markers, lines, a mesh and an image drawn by vispy's generated shaders."""

import numpy as np
from vispy import app, scene

app.use_app("glfw")
canvas = scene.SceneCanvas(size=(500, 400), show=True, vsync=False)
grid = canvas.central_widget.add_grid()
view = grid.add_view(0, 0)
view.camera = "turntable"
rng = np.random.default_rng(1)
m = scene.visuals.Markers(parent=view.scene)
m.set_data(rng.normal(size=(300, 3)), face_color="orange", size=8)
scene.visuals.Sphere(radius=1, method="latitude", parent=view.scene, shading="smooth", color=(0.4, 0.6, 0.8, 1))
scene.visuals.XYZAxis(parent=view.scene)
v2 = grid.add_view(0, 1)
v2.camera = "panzoom"
scene.visuals.Image(rng.random((64, 64)).astype("f4"), cmap="viridis", parent=v2.scene)
scene.visuals.Line(
    np.c_[np.linspace(0, 64, 200), 32 + 20 * np.sin(np.linspace(0, 9, 200))], parent=v2.scene, color="red"
)
scene.visuals.Text("line 7", pos=(20, 50), color="white", parent=v2.scene)
v2.camera.set_range()
t = app.Timer(0.0, connect=lambda e: (view.camera.orbit(2, 0), canvas.update()), start=True)
app.run()
