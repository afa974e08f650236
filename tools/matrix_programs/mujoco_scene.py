"""Bodies that fall on a plane that reflects, shadowed: fixed function and small shaders of a physics viewer."""

import glfw
import mujoco

SHAPES = ("box", "sphere", "capsule")
BODIES = "".join(
    f'<body pos="{k % 5 * 0.3 - 0.6} {k // 5 * 0.3 - 0.6} {0.5 + k * 0.05}"><freejoint/>'
    f'<geom type="{SHAPES[k % 3]}" size=".1 .1 .1" rgba="{0.3 + k * 0.02} .5 .7 1"/></body>'
    for k in range(25)
)
SCENE = f"""<mujoco><visual><quality shadowsize="1024"/></visual>
<asset><texture name="g" type="2d" builtin="checker" width="128" height="128" rgb1=".2 .3 .4" rgb2=".3 .4 .5"/>
<material name="g" texture="g" texrepeat="5 5" reflectance=".3"/></asset>
<worldbody><light pos="0 0 4" dir="0 0 -1" castshadow="true"/>
<geom type="plane" size="3 3 .1" material="g"/>{BODIES}</worldbody></mujoco>"""
model = mujoco.MjModel.from_xml_string(SCENE)
data = mujoco.MjData(model)
glfw.init()
window = glfw.create_window(500, 400, "depot", None, None)
glfw.make_context_current(window)
glfw.swap_interval(0)
camera, option = mujoco.MjvCamera(), mujoco.MjvOption()
scene = mujoco.MjvScene(model, 1000)
context = mujoco.MjrContext(model, mujoco.mjtFontScale.mjFONTSCALE_100)
camera.distance, camera.elevation = 3, -30
while not glfw.window_should_close(window):
    mujoco.mj_step(model, data)
    camera.azimuth += 1
    mujoco.mjv_updateScene(model, data, option, None, camera, mujoco.mjtCatBit.mjCAT_ALL, scene)
    mujoco.mjr_render(mujoco.MjrRect(0, 0, 500, 400), scene, context)
    glfw.swap_buffers(window)
    glfw.poll_events()
