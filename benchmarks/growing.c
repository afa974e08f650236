/* A frame of many textures or of many calls: `growing textures N FRAMES` or `growing calls N FRAMES`. */
#include <stdio.h>
#include <string.h>
#include "target.h"

int main(int count, char **arguments) {
  if (count < 4 || !begin(64, 64, 24)) return 1;
  int number = atoi(arguments[2]), frames = atoi(arguments[3]);
  GLuint program = glCreateProgram(), array, buffer;
  glAttachShader(program, shader(GL_VERTEX_SHADER, "#version 330\nin vec2 at; void main() { gl_Position = vec4(at, 0.0, 1.0); }"));
  glAttachShader(program, shader(GL_FRAGMENT_SHADER, "#version 330\nuniform sampler2D sheet; out vec4 c; void main() { c = texelFetch(sheet, ivec2(gl_FragCoord.xy) % 8, 0); }"));
  glLinkProgram(program);
  glUseProgram(program);
  glGenVertexArrays(1, &array);
  glBindVertexArray(array);
  float corners[] = {0, 0, 0.1f, 0, 0, 0.1f};
  glGenBuffers(1, &buffer);
  glBindBuffer(GL_ARRAY_BUFFER, buffer);
  glBufferData(GL_ARRAY_BUFFER, sizeof corners, corners, GL_STATIC_DRAW);
  glEnableVertexAttribArray(0);
  glVertexAttribPointer(0, 2, GL_FLOAT, GL_FALSE, 0, NULL);
  int many = strcmp(arguments[1], "textures") == 0;
  int textures = many ? number : 16;
  GLuint *names = malloc(sizeof *names * (size_t)textures);
  glGenTextures(textures, names);
  unsigned texels[64];
  for (int i = 0; i < textures; i++) {
    for (int k = 0; k < 64; k++) texels[k] = 0xff000000u | (unsigned)(i * 2654435761u + (unsigned)k);
    glBindTexture(GL_TEXTURE_2D, names[i]);
    glTexImage2D(GL_TEXTURE_2D, 0, GL_RGBA8, 8, 8, 0, GL_RGBA, GL_UNSIGNED_BYTE, texels);
    glTexParameteri(GL_TEXTURE_2D, GL_TEXTURE_MIN_FILTER, GL_NEAREST);
  }
  for (int frame = 0; frame < frames; frame++) {
    glClearColor((float)(frame % 8) / 8.0f, 0, 0, 1);
    glClear(GL_COLOR_BUFFER_BIT | GL_DEPTH_BUFFER_BIT);
    int draws = many ? 200 : number / 2;
    for (int i = 0; i < draws; i++) {
      glBindTexture(GL_TEXTURE_2D, names[i % textures]);
      glDrawArrays(GL_TRIANGLES, 0, 3);
    }
    eglSwapBuffers(display, surface);
  }
  return 0;
}
