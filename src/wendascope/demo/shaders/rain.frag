in vec2 coords;
uniform sampler2D streaks;
uniform float time;
uniform float sheet;
uniform vec4 tint;
out vec4 color;
void main() {
    vec2 at = coords * vec2(2.0 + sheet, 0.7 + sheet * 0.2) + vec2(sheet * 0.37 + coords.y * 0.04, time * (1.2 + sheet * 0.15));
    float drop = texture(streaks, at).r;
    color = vec4(tint.rgb * drop, drop * tint.a);
}
