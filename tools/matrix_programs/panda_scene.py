"""Lit boxes with generated shaders and shadows by panda3d."""

from direct.showbase.ShowBase import ShowBase
from panda3d.core import AmbientLight, CardMaker, Fog, Material, PointLight, Spotlight

base = ShowBase()


def box(x, y, z, s):
    node = base.render.attachNewNode("box")
    for h, p in ((0, 0), (90, 0), (180, 0), (270, 0), (0, 90), (0, -90)):
        c = CardMaker("side")
        c.setFrame(-1, 1, -1, 1)
        c.setHasNormals(True)
        n = node.attachNewNode("f")
        f = n.attachNewNode(c.generate())
        f.setY(-1)
        n.setHpr(h, p, 0)
    node.setPos(x, y, z)
    node.setScale(s)
    m = Material()
    m.setDiffuse((0.7, 0.5, 0.3, 1))
    m.setSpecular((1, 1, 1, 1))
    m.setShininess(30)
    node.setMaterial(m)
    return node


boxes = [box(k % 5 * 2.5 - 5, k // 5 * 2.5 + 4, 0, 0.7) for k in range(20)]
floor = box(0, 8, -12, 10)
a = AmbientLight("a")
a.setColor((0.2, 0.2, 0.25, 1))
base.render.setLight(base.render.attachNewNode(a))
s = Spotlight("s")
s.setShadowCaster(True, 512, 512)
n = base.render.attachNewNode(s)
n.setPos(-6, -6, 14)
n.lookAt(0, 8, 0)
base.render.setLight(n)
p = PointLight("p")
n = base.render.attachNewNode(p)
n.setPos(3, 2, 5)
base.render.setLight(n)
f = Fog("f")
f.setColor(0.3, 0.3, 0.4)
f.setExpDensity(0.02)
base.render.setFog(f)
base.render.setShaderAuto()
base.disableMouse()
base.camera.setPos(0, -14, 8)
base.camera.lookAt(0, 6, 0)


def turn(task):
    for k, b in enumerate(boxes):
        b.setH(b.getH() + 1 + k * 0.1)
    return task.cont


base.taskMgr.add(turn, "turn")
base.run()
