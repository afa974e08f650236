"""PBR spheres, SSAO, shadows and depth peeling with pyvista."""

import pyvista

p = pyvista.Plotter(window_size=(400, 300), off_screen=False)
for k in range(12):
    p.add_mesh(
        pyvista.Sphere(center=(k % 4 * 1.3, k // 4 * 1.3, 0), theta_resolution=20, phi_resolution=20),
        color="tan",
        pbr=k % 2 == 0,
        metallic=k / 12,
        roughness=0.3,
        smooth_shading=True,
    )
p.add_mesh(pyvista.Plane(center=(2, 1.3, -0.6), i_size=8, j_size=6), color="grey")
p.add_mesh(pyvista.Cube(center=(2, 1, 1)), opacity=0.4, color="steelblue")
p.add_volume(pyvista.Wavelet(extent=(-6, 6, -6, 6, -6, 6)).translate((2, 1, 8)), cmap="bone")
p.enable_ssao(radius=1)
p.enable_depth_peeling(4)
p.show(interactive_update=True, auto_close=False)
while True:
    p.camera.azimuth += 3
    p.update()
    p.render()
