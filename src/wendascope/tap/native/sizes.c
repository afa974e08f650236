/* How many bytes GL reads: strings, vectors by parameter name, pixel rectangles under the unpack state. */
#include <string.h>
#include "tap.h"

uint64_t tap_string_size(const char *string, int64_t length) {
  if (!string) return 0;
  return length >= 0 ? (uint64_t)length : strlen(string) + 1;
}

uint64_t tap_type_size(GLenum type) {
  switch (type) {
    case GL_BYTE: case GL_UNSIGNED_BYTE: return 1;
    case GL_SHORT: case GL_UNSIGNED_SHORT: case GL_HALF_FLOAT: case GL_HALF_FLOAT_OES: case GL_2_BYTES: return 2;
    case GL_3_BYTES: return 3;
    case GL_DOUBLE: return 8;
    default: return 4;
  }
}

/* Values a parameter vector has; 1 for every name not listed. */
uint64_t tap_pname_count(GLenum pname) {
  switch (pname) {
    case GL_TEXTURE_BORDER_COLOR: case GL_TEXTURE_SWIZZLE_RGBA: case GL_TEXTURE_CROP_RECT_OES:
    case GL_AMBIENT: case GL_DIFFUSE: case GL_SPECULAR: case GL_EMISSION: case GL_AMBIENT_AND_DIFFUSE:
    case GL_POSITION: case GL_FOG_COLOR: case GL_LIGHT_MODEL_AMBIENT: case GL_TEXTURE_ENV_COLOR:
    case GL_OBJECT_PLANE: case GL_EYE_PLANE: case GL_COLOR_TABLE_SCALE: case GL_COLOR_TABLE_BIAS:
    case GL_CONVOLUTION_BORDER_COLOR: case GL_CONVOLUTION_FILTER_SCALE: case GL_CONVOLUTION_FILTER_BIAS:
    case GL_PATCH_DEFAULT_OUTER_LEVEL:
      return 4;
    case GL_SPOT_DIRECTION: case GL_POINT_DISTANCE_ATTENUATION: case GL_COLOR_INDEXES:
      return 3;
    case GL_PATCH_DEFAULT_INNER_LEVEL:
      return 2;
    default:
      return 1;
  }
}

static uint64_t components(GLenum format) {
  switch (format) {
    case GL_RG: case GL_RG_INTEGER: case GL_LUMINANCE_ALPHA: case GL_DEPTH_STENCIL: case GL_422_EXT:
    case GL_LUMINANCE_ALPHA_INTEGER_EXT: return 2;
    case GL_RGB: case GL_BGR: case GL_RGB_INTEGER: case GL_BGR_INTEGER: return 3;
    case GL_RGBA: case GL_BGRA: case GL_RGBA_INTEGER: case GL_BGRA_INTEGER: case GL_ABGR_EXT: case GL_CMYK_EXT: return 4;
    case GL_CMYKA_EXT: return 5;
    default: return 1;
  }
}

uint64_t tap_pixel_size(GLenum format, GLenum type) {
  switch (type) {
    case GL_UNSIGNED_BYTE_3_3_2: case GL_UNSIGNED_BYTE_2_3_3_REV: return 1;
    case GL_UNSIGNED_SHORT_5_6_5: case GL_UNSIGNED_SHORT_5_6_5_REV: case GL_UNSIGNED_SHORT_4_4_4_4:
    case GL_UNSIGNED_SHORT_4_4_4_4_REV: case GL_UNSIGNED_SHORT_5_5_5_1: case GL_UNSIGNED_SHORT_1_5_5_5_REV:
    case GL_UNSIGNED_SHORT_8_8_MESA: case GL_UNSIGNED_SHORT_8_8_REV_MESA: return 2;
    case GL_UNSIGNED_INT_8_8_8_8: case GL_UNSIGNED_INT_8_8_8_8_REV: case GL_UNSIGNED_INT_10_10_10_2:
    case GL_UNSIGNED_INT_2_10_10_10_REV: case GL_UNSIGNED_INT_24_8: case GL_UNSIGNED_INT_10F_11F_11F_REV:
    case GL_UNSIGNED_INT_5_9_9_9_REV: return 4;
    case GL_FLOAT_32_UNSIGNED_INT_24_8_REV: return 8;
    default: return components(format) * tap_type_size(type);
  }
}

typedef struct {
  int64_t alignment, row_length, image_height, skip_rows, skip_pixels, skip_images;
} Layout;

static uint64_t layout_size(Layout l, GLenum format, GLenum type, int64_t width, int64_t height, int64_t depth, int dimensions) {
  if (width <= 0 || height <= 0 || depth <= 0) return 0;
  int64_t row_pixels = l.row_length > 0 ? l.row_length : width;
  int64_t pixel_bits = type == GL_BITMAP ? 1 : (int64_t)tap_pixel_size(format, type) * 8;
  int64_t row = (row_pixels * pixel_bits + 7) / 8;
  row = (row + l.alignment - 1) / l.alignment * l.alignment;
  int64_t image = row * (dimensions > 2 && l.image_height > 0 ? l.image_height : height);
  int64_t last = (l.skip_pixels + width) * pixel_bits;
  int64_t bytes = (depth - 1) * image + (l.skip_rows + height - 1) * row + (last + 7) / 8;
  if (dimensions > 2) bytes += l.skip_images * image;
  return (uint64_t)bytes;
}

/* The pixel store state of one direction: unpack when data goes to GL, pack when it comes back. */
static Layout current_layout(int pack, int dimensions) {
  TapContext *context = tap_context();
  Layout l = {.alignment = tap_get(pack ? GL_PACK_ALIGNMENT : GL_UNPACK_ALIGNMENT)};
  if (!context->es || context->major >= 3) {
    l.row_length = tap_get(pack ? GL_PACK_ROW_LENGTH : GL_UNPACK_ROW_LENGTH);
    l.skip_rows = tap_get(pack ? GL_PACK_SKIP_ROWS : GL_UNPACK_SKIP_ROWS);
    l.skip_pixels = tap_get(pack ? GL_PACK_SKIP_PIXELS : GL_UNPACK_SKIP_PIXELS);
    if (dimensions > 2) {
      l.image_height = tap_get(pack ? GL_PACK_IMAGE_HEIGHT : GL_UNPACK_IMAGE_HEIGHT);
      l.skip_images = tap_get(pack ? GL_PACK_SKIP_IMAGES : GL_UNPACK_SKIP_IMAGES);
    }
  }
  if (l.alignment <= 0) l.alignment = 4;
  return l;
}

uint64_t tap_image_size(GLenum format, GLenum type, int64_t width, int64_t height, int64_t depth, int dimensions) {
  return layout_size(current_layout(0, dimensions), format, type, width, height, depth, dimensions);
}

uint64_t tap_packed_image_size(GLenum format, GLenum type, int64_t width, int64_t height, int64_t depth, int dimensions) {
  return layout_size(current_layout(1, dimensions), format, type, width, height, depth, dimensions);
}

/* Control points of an evaluator map. */
uint64_t tap_map_size(GLenum target, uint64_t element, int64_t ustride, int64_t uorder, int64_t vstride, int64_t vorder) {
  uint64_t values = 4;
  switch (target) {
    case GL_MAP1_INDEX: case GL_MAP1_TEXTURE_COORD_1: case GL_MAP2_INDEX: case GL_MAP2_TEXTURE_COORD_1: values = 1; break;
    case GL_MAP1_TEXTURE_COORD_2: case GL_MAP2_TEXTURE_COORD_2: values = 2; break;
    case GL_MAP1_VERTEX_3: case GL_MAP1_NORMAL: case GL_MAP1_TEXTURE_COORD_3:
    case GL_MAP2_VERTEX_3: case GL_MAP2_NORMAL: case GL_MAP2_TEXTURE_COORD_3: values = 3; break;
    default: break;
  }
  if (uorder <= 0 || vorder <= 0 || ustride < 0 || vstride < 0) return 0;
  return ((uint64_t)((uorder - 1) * ustride + (vorder - 1) * vstride) + values) * element;
}
