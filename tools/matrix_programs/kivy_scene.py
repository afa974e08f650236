"""A Kivy window of buttons and sliders that move."""

from kivy.app import App
from kivy.clock import Clock
from kivy.uix.button import Button
from kivy.uix.gridlayout import GridLayout
from kivy.uix.slider import Slider


class A(App):
    def build(self):
        g = GridLayout(cols=6)
        for k in range(30):
            g.add_widget(Button(text=f"line {k}", background_color=(k / 30, 0.5, 0.7, 1)))
        self.s = [Slider(min=0, max=100) for _ in range(6)]
        for s in self.s:
            g.add_widget(s)
        Clock.schedule_interval(self.move, 0)
        return g

    def move(self, dt):
        for k, s in enumerate(self.s):
            s.value = (s.value + k + 1) % 100


A().run()
