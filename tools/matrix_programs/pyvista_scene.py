"""A lit mesh with edges and a transparent one with pyvista, turned a little for every frame."""

import pyvista

plotter = pyvista.Plotter(window_size=(400, 300), off_screen=False)
plotter.add_mesh(pyvista.Sphere(theta_resolution=24, phi_resolution=24), color="tan", show_edges=True)
plotter.add_mesh(pyvista.Cube(x_length=1.3, y_length=0.5, z_length=0.5), color="steelblue", opacity=0.4)
plotter.add_text("depot", font_size=10)
plotter.show(interactive_update=True, auto_close=False)
while True:
    plotter.camera.azimuth += 3
    plotter.update()
    plotter.render()
