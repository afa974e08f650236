"""Shapes, labels and a rotating batch with pyglet."""

import pyglet

window = pyglet.window.Window(400, 300)
batch = pyglet.graphics.Batch()
shapes = [
    pyglet.shapes.Rectangle(
        20 + i % 8 * 45, 20 + i // 8 * 45, 30, 20, color=(30 * (i % 8), 200, 20 * (i // 8)), batch=batch
    )
    for i in range(40)
]
star = pyglet.shapes.Star(200, 150, 80, 40, 7, color=(250, 200, 60, 180), batch=batch)
label = pyglet.text.Label("line 7 to the depot", x=60, y=260, batch=batch)
turn = 0


@window.event
def on_draw() -> None:
    global turn
    turn += 2
    window.clear()
    star.rotation = turn
    for i, shape in enumerate(shapes):
        shape.rotation = turn + i * 5
    batch.draw()


pyglet.app.run(1 / 60)
