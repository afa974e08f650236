in vec2 coords;
uniform sampler2D picture;
uniform sampler2D halo;
uniform float exposure;
uniform int rounds;
out vec4 color;
vec3 curve(vec3 c) { return c / (c + vec3(0.6)); }
void main() {
    vec3 c = texture(picture, coords).rgb + texture(halo, coords).rgb * 0.8;
    c *= exposure;
    for (int i = 0; i < rounds; i++) {
        vec3 lifted = curve(c) * 1.6;
        c = mix(c, lifted * sqrt(lifted) , 1.0 / float(rounds));
    }
    float edge = length(coords - 0.5);
    c *= 1.0 - edge * edge * 0.55;
    color = vec4(pow(curve(c) * 1.2, vec3(1.0 / 1.9)), 1.0);
}
