in vec2 coords;
uniform sampler2D picture;
uniform vec2 along;
out vec4 color;
void main() {
    vec3 sum = vec3(0.0);
    float weights = 0.0;
    for (int i = -6; i <= 6; i++) {
        float w = exp(-float(i * i) * 0.06);
        sum += texture(picture, coords + along * float(i)).rgb * w;
        weights += w;
    }
    color = vec4(sum / weights, 1.0);
}
