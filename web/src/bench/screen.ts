import type { Overlay } from './frames'
import type { Matrix } from './matrix'
import type { Channel, View } from './state'

export interface Shown {
  plate: ImageBitmap
  overlay: Overlay | null
  /** The paint of a stroke that is not yet part of a revision is shown as well. */
  live: boolean
  view: View
  channel: Channel
  exposure: number
  /** From device pixels of the canvas to pixels of the frame. */
  toFrame: Matrix
  /** Device pixels for each pixel of the frame. */
  scale: number
}

/** Draws frames. */
export interface Screen {
  draw(shown: Shown): void
  /** Puts pixels of a stroke in progress on the live layer. */
  paint(x: number, y: number, width: number, height: number, rgba: Uint8Array): void
  clearLive(): void
  readonly kind: 'WebGL2' | 'canvas'
}

const vertex = `#version 300 es
void main() { vec2 p = vec2(gl_VertexID & 1, gl_VertexID >> 1) * 4.0 - 1.0; gl_Position = vec4(p, 0, 1); }`

// The display transform of the plate is done by the server: samples are sRGB. Exposure goes through light and back.
const fragment = `#version 300 es
precision highp float;
uniform sampler2D plate, overlay, live;
uniform vec2 size, room;
uniform vec4 place;
uniform mat3 toFrame;
uniform int view, channel, hasOverlay, hasLive;
uniform float gain;
out vec4 colour;
vec3 light(vec3 v) { return mix(v / 12.92, pow((v + 0.055) / 1.055, vec3(2.4)), step(0.04045, v)); }
vec3 code(vec3 l) { return mix(l * 12.92, 1.055 * pow(max(l, 0.0), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, l)); }
void main() {
  vec3 h = toFrame * vec3(gl_FragCoord.x, room.y - gl_FragCoord.y, 1);
  vec2 p = h.xy / h.z;
  if (h.z <= 0.0 || any(lessThan(p, vec2(0))) || any(greaterThanEqual(p, size))) { colour = vec4(vec3(0.105), 1); return; }
  vec3 a = texture(plate, p / size).rgb;
  vec3 b = a;
  if (hasOverlay == 1 && all(greaterThanEqual(p, place.xy)) && all(lessThan(p, place.xy + place.zw))) {
    vec4 o = texture(overlay, (p - place.xy) / place.zw);
    b = o.rgb + b * (1.0 - o.a);
  }
  if (hasLive == 1) { vec4 o = texture(live, p / size); b = mix(b, o.rgb, step(0.5, o.a)); }
  vec3 c = view == 0 ? a : view == 3 ? min(abs(b - a) * 4.0, 1.0) : b;
  if (gain != 1.0) c = code(min(light(c) * gain, 1.0));
  if (channel == 1) c = c.rrr;
  if (channel == 2) c = c.ggg;
  if (channel == 3) c = c.bbb;
  if (channel == 4) c = vec3(dot(c, vec3(0.2126, 0.7152, 0.0722)));
  colour = vec4(c, 1);
}`

const views: View[] = ['plate', 'patch', 'result', 'difference']
const channels: Channel[] = ['colour', 'red', 'green', 'blue', 'luma']

/** A screen for the canvas: WebGL2, or a plain canvas where there is none. */
export function openScreen(canvas: HTMLCanvasElement, width: number, height: number): Screen {
  const gl = canvas.getContext('webgl2', { alpha: false, antialias: false, preserveDrawingBuffer: true })
  return gl ? new GLScreen(gl, width, height) : new PlainScreen(canvas, width, height)
}

class GLScreen implements Screen {
  readonly kind = 'WebGL2'
  private at: (name: string) => WebGLUniformLocation | null
  private textures: WebGLTexture[]
  private shownPlate: ImageBitmap | null = null
  private shownOverlay: ImageBitmap | null = null
  private hasLive = false

  constructor(private gl: WebGL2RenderingContext, private width: number, private height: number) {
    const program = gl.createProgram()!
    for (const [kind, source] of [[gl.VERTEX_SHADER, vertex], [gl.FRAGMENT_SHADER, fragment]] as const) {
      const shader = gl.createShader(kind)!
      gl.shaderSource(shader, source)
      gl.compileShader(shader)
      gl.attachShader(program, shader)
    }
    gl.linkProgram(program)
    if (!gl.getProgramParameter(program, gl.LINK_STATUS)) throw new Error(gl.getProgramInfoLog(program) ?? 'the picture cannot be drawn')
    gl.useProgram(program)
    this.at = (name) => gl.getUniformLocation(program, name)
    this.textures = ['plate', 'overlay', 'live'].map((name, unit) => {
      const texture = gl.createTexture()!
      gl.activeTexture(gl.TEXTURE0 + unit)
      gl.bindTexture(gl.TEXTURE_2D, texture)
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE)
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE)
      gl.uniform1i(this.at(name), unit)
      return texture
    })
    gl.pixelStorei(gl.UNPACK_PREMULTIPLY_ALPHA_WEBGL, false)
    this.clearLive()
  }

  private upload(unit: number, bitmap: ImageBitmap) {
    const gl = this.gl
    gl.activeTexture(gl.TEXTURE0 + unit)
    gl.bindTexture(gl.TEXTURE_2D, this.textures[unit])
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, bitmap)
  }

  draw(s: Shown) {
    const gl = this.gl
    if (this.shownPlate !== s.plate) {
      this.upload(0, s.plate)
      this.shownPlate = s.plate
    }
    if (s.overlay && this.shownOverlay !== s.overlay.bitmap) {
      this.upload(1, s.overlay.bitmap)
      this.shownOverlay = s.overlay.bitmap
    }
    // Close up, every pixel of the frame is seen as it is.
    const filter = s.scale >= 2 ? gl.NEAREST : gl.LINEAR
    for (let unit = 0; unit < 3; unit++) {
      gl.activeTexture(gl.TEXTURE0 + unit)
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, filter)
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MAG_FILTER, filter)
    }
    gl.viewport(0, 0, gl.canvas.width, gl.canvas.height)
    gl.uniform2f(this.at('size'), this.width, this.height)
    gl.uniform2f(this.at('room'), gl.canvas.width, gl.canvas.height)
    if (s.overlay) gl.uniform4f(this.at('place'), s.overlay.x, s.overlay.y, s.overlay.bitmap.width, s.overlay.bitmap.height)
    gl.uniformMatrix3fv(this.at('toFrame'), true, s.toFrame)
    gl.uniform1i(this.at('view'), views.indexOf(s.view))
    gl.uniform1i(this.at('channel'), channels.indexOf(s.channel))
    gl.uniform1i(this.at('hasOverlay'), s.overlay ? 1 : 0)
    gl.uniform1i(this.at('hasLive'), s.live && this.hasLive ? 1 : 0)
    gl.uniform1f(this.at('gain'), 2 ** s.exposure)
    gl.drawArrays(gl.TRIANGLES, 0, 3)
  }

  paint(x: number, y: number, width: number, height: number, rgba: Uint8Array) {
    const gl = this.gl
    gl.activeTexture(gl.TEXTURE2)
    gl.bindTexture(gl.TEXTURE_2D, this.textures[2])
    gl.texSubImage2D(gl.TEXTURE_2D, 0, x, y, width, height, gl.RGBA, gl.UNSIGNED_BYTE, rgba)
    this.hasLive = true
  }

  clearLive() {
    const gl = this.gl
    this.hasLive = false
    gl.activeTexture(gl.TEXTURE2)
    gl.bindTexture(gl.TEXTURE_2D, this.textures[2])
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, this.width, this.height, 0, gl.RGBA, gl.UNSIGNED_BYTE, null)
  }
}

/** Without WebGL2: plate, patch and result, free; no channels, exposure, difference or perspective. */
class PlainScreen implements Screen {
  readonly kind = 'canvas'
  private context: CanvasRenderingContext2D
  private layer: OffscreenCanvas

  constructor(private canvas: HTMLCanvasElement, width: number, height: number) {
    this.context = canvas.getContext('2d', { alpha: false })!
    this.layer = new OffscreenCanvas(width, height)
  }

  draw(s: Shown) {
    const c = this.context
    c.setTransform(1, 0, 0, 1, 0, 0)
    c.fillStyle = '#1b1b1b'
    c.fillRect(0, 0, this.canvas.width, this.canvas.height)
    const k = s.toFrame[8] / s.toFrame[0]
    c.setTransform(k, 0, 0, k, (-s.toFrame[2] / s.toFrame[8]) * k, (-s.toFrame[5] / s.toFrame[8]) * k)
    c.imageSmoothingEnabled = s.scale < 2
    c.drawImage(s.plate, 0, 0)
    if (s.view === 'plate') return
    if (s.overlay) c.drawImage(s.overlay.bitmap, s.overlay.x, s.overlay.y)
    if (s.live) c.drawImage(this.layer, 0, 0)
  }

  paint(x: number, y: number, width: number, height: number, rgba: Uint8Array) {
    this.layer.getContext('2d')!.putImageData(new ImageData(new Uint8ClampedArray(rgba), width, height), x, y)
  }

  clearLive() {
    this.layer.getContext('2d')!.clearRect(0, 0, this.layer.width, this.layer.height)
  }
}
