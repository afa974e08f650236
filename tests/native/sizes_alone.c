/* What sizes.c asks of the rest of the tap, answered from a table that the test fills. */
#include "tap.h"

static TapContext context;
static GLint values[0x10000];

GLint tap_get(GLenum pname) { return values[pname & 0xffff]; }
TapContext *tap_context(void) { return &context; }

TAP_EXPORT void alone_set(GLenum pname, GLint value) { values[pname & 0xffff] = value; }
TAP_EXPORT void alone_version(int es, int major) {
  context.es = es;
  context.major = major;
}
TAP_EXPORT uint64_t alone_type(GLenum type) { return tap_type_size(type); }
TAP_EXPORT uint64_t alone_pixel(GLenum format, GLenum type) { return tap_pixel_size(format, type); }
TAP_EXPORT uint64_t alone_image(int pack, GLenum format, GLenum type, int64_t w, int64_t h, int64_t d, int dimensions) {
  return (pack ? tap_packed_image_size : tap_image_size)(format, type, w, h, d, dimensions);
}
TAP_EXPORT uint64_t alone_map(GLenum target, int64_t ustride, int64_t uorder, int64_t vstride, int64_t vorder) {
  return tap_map_size(target, 1, ustride, uorder, vstride, vorder);
}
TAP_EXPORT uint64_t alone_string(const char *text, int64_t length) { return tap_string_size(text, length); }
