"""Sprites, shapes and text with arcade."""

import arcade


class Yard(arcade.Window):
    def __init__(self) -> None:
        super().__init__(400, 300, "yard")
        self.sprites = arcade.SpriteList()
        for i in range(60):
            sprite = arcade.SpriteSolidColor(18, 12, color=(20 + i * 3, 200 - i * 2, 90 + i))
            sprite.center_x, sprite.center_y = 20 + i % 10 * 38, 30 + i // 10 * 40
            self.sprites.append(sprite)
        self.text = arcade.Text("tram depot", 120, 150, arcade.color.WHITE, 24)
        self.number = 0

    def on_draw(self) -> None:
        self.clear()
        self.number += 1
        for i, sprite in enumerate(self.sprites):
            sprite.angle = self.number * 3 + i
        self.sprites.draw()
        arcade.draw_circle_filled(200 + self.number % 50, 80, 30, arcade.color.AMBER)
        arcade.draw_line(0, 0, 400, 300 - self.number % 60, arcade.color.RED, 4)
        self.text.draw()


Yard()
arcade.run()
