import type { Overlay } from './frames'
import { curvesOf, lookUp, type Table } from './cube'
import { chain, type Mapping } from './mapping'
import type { Channel, View } from './state'

export interface Shown {
  plate: ImageBitmap
  overlay: Overlay | null
  /**
   * From device pixels of the canvas to pixels of the frame on which a stroke is painted that is not yet part of a
   * revision; null where it is not shown.
   */
  live: Mapping | null
  view: View
  channel: Channel
  exposure: number
  /** From device pixels of the canvas to pixels of the frame. */
  toFrame: Mapping
  /** Device pixels for each pixel of the frame. */
  scale: number
  /** A difference is shown so many times as strong. */
  gain: number
  /** Left of here, in device pixels of the canvas, only the plate is shown; null for nowhere. */
  split: number | null
  /** Another frame's plate laid over all, and how much of it shows. */
  under?: { picture: ImageBitmap; share: number; toFrame: Mapping; difference?: boolean }
}

/** Draws frames. */
export interface Screen {
  draw(shown: Shown): void
  /** Draws anew only where a stroke has put pixels since the last drawing. */
  drawPainted(shown: Shown): void
  /** Puts pixels of a stroke in progress on the live layer. */
  paint(x: number, y: number, width: number, height: number, rgba: Uint8Array): void
  clearLive(): void
  /** From now on pictures are of code values, and this table takes them to the screen; null for pictures for the screen. */
  look(table: Table | null): void
  /** Frees what it holds on the graphics card. */
  close(): void
  readonly kind: 'WebGL2' | 'canvas'
}

// A rectangle of the frame, or a grid over it, carried to the canvas: the rasteriser divides by w.
const vertex = `#version 300 es
uniform vec4 place, part;
uniform vec2 size;
in vec2 corner;
in vec3 clip, plateAt;
out vec2 inRect, inFrame;
out vec3 inPlate;
void main() {
  gl_Position = vec4(clip.xy, 0, clip.z);
  inRect = part.xy + corner * part.zw;
  inFrame = (place.xy + corner * place.zw) / size;
  inPlate = plateAt;
}`

// The plain picture takes one fetch for each pixel, which a machine without a graphics card can do at full rate as
// well. The display transform is done by the server: samples are sRGB.
const plain = `#version 300 es
precision highp float;
uniform sampler2D picture;
uniform float share;
in vec2 inRect, inFrame;
out vec4 colour;
void main() { colour = texture(picture, inRect) * share; }`

// What a table shows of code values: tableKind is 0 for none, 1 for curves, 2 for a grid. A sample of it lies in the
// middle of a texel. What is coded by sRGB's curve on its way here is taken back first.
const looked = `
uniform int tableKind;
uniform highp sampler2D curves;
uniform highp sampler3D grid;
uniform vec3 low, high;
uniform float entries, coded;
vec3 light(vec3 v) { return mix(v / 12.92, pow((v + 0.055) / 1.055, vec3(2.4)), step(0.04045, v)); }
vec3 looked(vec3 v) {
  if (tableKind == 0) return v;
  if (tableKind == 1) {
    vec3 at = (v * 255.0 + 0.5) / 256.0;
    return vec3(texture(curves, vec2(at.r, 0.5)).r, texture(curves, vec2(at.g, 0.5)).g, texture(curves, vec2(at.b, 0.5)).b);
  }
  if (coded == 1.0) v = light(v);
  return texture(grid, (clamp((v - low) / (high - low), 0.0, 1.0) * (entries - 1.0) + 0.5) / entries).rgb;
}`

// The plain picture through a table.
const through = `#version 300 es
precision highp float;
uniform sampler2D picture;
uniform float share;
in vec2 inRect, inFrame;
out vec4 colour;
${looked}
void main() {
  colour = texture(picture, inRect);
  if (colour.a == 0.0) return;
  colour.rgb = clamp(looked(colour.rgb / colour.a), 0.0, 1.0) * colour.a;
  colour *= share;
}`

// Exposure goes through light.
const graded = `#version 300 es
precision highp float;
uniform sampler2D picture, plate;
uniform int difference, channel;
uniform float gain, strength;
in vec2 inRect, inFrame;
out vec4 colour;
${looked}
vec3 code(vec3 l) { return mix(l * 12.92, 1.055 * pow(max(l, 0.0), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, l)); }
void main() {
  colour = texture(picture, inRect);
  if (colour.a == 0.0) return;
  vec3 c = clamp(looked(colour.rgb / colour.a), 0.0, 1.0);
  if (difference == 1) c = min(abs(c - clamp(looked(texture(plate, inFrame).rgb), 0.0, 1.0)) * strength, 1.0);
  if (gain != 1.0) c = code(min(light(c) * gain, 1.0));
  if (channel == 1) c = c.rrr;
  if (channel == 2) c = c.ggg;
  if (channel == 3) c = c.bbb;
  if (channel == 4) c = vec3(dot(c, vec3(0.2126, 0.7152, 0.0722)));
  colour.rgb = c * colour.a;
}`

// Another frame against the plate, four times as strong: dark where they agree.
const against = `#version 300 es
precision highp float;
uniform sampler2D picture, plate;
uniform vec2 size;
in vec2 inRect, inFrame;
in vec3 inPlate;
out vec4 colour;
${looked}
void main() {
  vec2 at = inPlate.xy / inPlate.z / size;
  colour = vec4(min(abs(looked(texture(picture, inRect).rgb) - looked(texture(plate, at).rgb)) * 4.0, 1.0), 1);
}`

/** Views that stand on black, not on the plate. */
const onBlack = new Set<View>(['alone', 'matte', 'light', 'grain', 'marked', 'gathered', 'found'])
/** Views of what is no light: no table is for them. */
const shares = new Set<View>(['matte', 'light', 'grain', 'marked', 'gathered', 'found'])
const bare = (v: View) => onBlack.has(v)

const channels: Channel[] = ['colour', 'red', 'green', 'blue', 'luma']

/** A screen for the canvas: WebGL2, or a plain canvas where there is none. */
export function openScreen(canvas: HTMLCanvasElement, width: number, height: number): Screen {
  const gl = canvas.getContext('webgl2', { alpha: false, antialias: false, preserveDrawingBuffer: true })
  return gl ? new GLScreen(gl, width, height) : new PlainScreen(canvas, width, height)
}

type Part = [left: number, top: number, right: number, bottom: number]

const join = (a: Part | null, b: Part): Part =>
  a ? [Math.min(a[0], b[0]), Math.min(a[1], b[1]), Math.max(a[2], b[2]), Math.max(a[3], b[3])] : b

/** What is told of each vertex, and in how many numbers. */
const attributes = [
  ['corner', 2],
  ['clip', 3],
  ['plateAt', 3],
] as const
const stride = attributes.reduce((sum, [, n]) => sum + n, 0)

/** A program with its uniforms by name. */
class Program {
  private places = new Map<string, WebGLUniformLocation | null>()
  private program: WebGLProgram

  constructor(
    private gl: WebGL2RenderingContext,
    fragment: string,
  ) {
    this.program = gl.createProgram()
    for (const [kind, source] of [
      [gl.VERTEX_SHADER, vertex],
      [gl.FRAGMENT_SHADER, fragment],
    ] as const) {
      const shader = gl.createShader(kind)!
      gl.shaderSource(shader, source)
      gl.compileShader(shader)
      gl.attachShader(this.program, shader)
      gl.deleteShader(shader) // it goes with the program
    }
    attributes.forEach(([name], i) => gl.bindAttribLocation(this.program, i, name))
    gl.linkProgram(this.program)
    if (!gl.getProgramParameter(this.program, gl.LINK_STATUS))
      throw new Error(gl.getProgramInfoLog(this.program) ?? 'the picture cannot be drawn')
  }

  use() {
    this.gl.useProgram(this.program)
    return this
  }

  close() {
    this.gl.deleteProgram(this.program)
  }

  at(name: string) {
    if (!this.places.has(name)) this.places.set(name, this.gl.getUniformLocation(this.program, name))
    return this.places.get(name) ?? null
  }
}

/** The triangles of a grid of n by n cells. */
function triangles(n: number): Uint16Array {
  const out: number[] = []
  for (let j = 0; j < n; j++)
    for (let i = 0; i < n; i++) {
      const a = j * (n + 1) + i
      out.push(a, a + 1, a + n + 1, a + 1, a + n + 2, a + n + 1)
    }
  return new Uint16Array(out)
}

/** Bytes of pictures that stay on the graphics card. */
const onCard = 384 << 20

class GLScreen implements Screen {
  readonly kind = 'WebGL2'
  private layer: WebGLTexture
  private vertices: WebGLBuffer
  private indices: WebGLBuffer
  private cells = 0 // that the indices are for
  private plain: Program
  private through: Program
  private table: Table | null = null
  private tableTextures: WebGLTexture[] = []
  private graded: Program
  private against: Program
  private shown: (ImageBitmap | null)[] = [null, null, null, null]
  /** Pictures that are on the graphics card, those used longest ago first. */
  private uploaded = new Map<ImageBitmap, { texture: WebGLTexture; bytes: number }>()
  private held = 0
  /** What of the live layer has paint: left, top, right, bottom. */
  private live: Part | null = null
  /** What of it was painted since the last drawing. */
  private fresh: Part | null = null

  constructor(
    private gl: WebGL2RenderingContext,
    private width: number,
    private height: number,
  ) {
    this.plain = new Program(gl, plain)
    this.through = new Program(gl, through)
    this.graded = new Program(gl, graded)
    this.against = new Program(gl, against)
    // Units: plate, overlay, live layer, under.
    gl.activeTexture(gl.TEXTURE2)
    this.layer = gl.createTexture()
    gl.bindTexture(gl.TEXTURE_2D, this.layer)
    gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE)
    gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE)
    for (const [unit, kind] of [
      [4, gl.TEXTURE_2D],
      [5, gl.TEXTURE_3D],
    ]) {
      gl.activeTexture(gl.TEXTURE0 + unit)
      const texture = gl.createTexture()
      this.tableTextures.push(texture)
      gl.bindTexture(kind, texture)
      for (const name of [gl.TEXTURE_WRAP_S, gl.TEXTURE_WRAP_T, gl.TEXTURE_WRAP_R])
        gl.texParameteri(kind, name, gl.CLAMP_TO_EDGE)
      for (const name of [gl.TEXTURE_MIN_FILTER, gl.TEXTURE_MAG_FILTER]) gl.texParameteri(kind, name, gl.LINEAR)
    }
    this.vertices = gl.createBuffer()
    this.indices = gl.createBuffer()
    gl.bindBuffer(gl.ARRAY_BUFFER, this.vertices)
    gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, this.indices)
    let offset = 0
    attributes.forEach(([, n], i) => {
      gl.enableVertexAttribArray(i)
      gl.vertexAttribPointer(i, n, gl.FLOAT, false, 4 * stride, 4 * offset)
      offset += n
    })
    gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA)
    gl.clearColor(0.105, 0.105, 0.105, 1)
    this.clearLive()
  }

  look(table: Table | null) {
    if (table === this.table) return
    this.table = table
    if (!table) return
    const { gl } = this
    if (table.grid) {
      const n = table.size
      gl.activeTexture(gl.TEXTURE5)
      gl.texImage3D(gl.TEXTURE_3D, 0, gl.RGB16F, n, n, n, 0, gl.RGB, gl.FLOAT, table.entries)
    } else {
      gl.activeTexture(gl.TEXTURE4)
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGB16F, 256, 1, 0, gl.RGB, gl.FLOAT, curvesOf(table))
    }
  }

  /** Tells a program of the table, where what is shown goes through it. */
  private tell(p: Program, view: View) {
    const { gl, table: t } = this
    const on = t && !shares.has(view)
    gl.uniform1i(p.at('tableKind'), !on ? 0 : t.grid ? 2 : 1)
    gl.uniform1i(p.at('curves'), 4)
    gl.uniform1i(p.at('grid'), 5)
    if (!on) return
    gl.uniform3fv(p.at('low'), t.min)
    gl.uniform3fv(p.at('high'), t.max)
    gl.uniform1f(p.at('entries'), t.size)
    gl.uniform1f(p.at('coded'), t.linear ? 1 : 0)
  }

  /** Binds a picture to a unit; one that was shown before is on the graphics card still. */
  private upload(unit: number, bitmap: ImageBitmap) {
    if (this.shown[unit] === bitmap) return
    const gl = this.gl
    const there = this.uploaded.get(bitmap)
    if (!there && !bitmap.width) return // it was let go meanwhile
    this.shown[unit] = bitmap
    gl.activeTexture(gl.TEXTURE0 + unit)
    if (there) {
      this.uploaded.delete(bitmap)
      this.uploaded.set(bitmap, there)
      gl.bindTexture(gl.TEXTURE_2D, there.texture)
      return
    }
    const texture = gl.createTexture()
    gl.bindTexture(gl.TEXTURE_2D, texture)
    gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE)
    gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE)
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, bitmap)
    const bytes = 4 * bitmap.width * bitmap.height
    this.uploaded.set(bitmap, { texture, bytes })
    this.held += bytes
    for (const [old, { texture, bytes }] of this.uploaded) {
      if (this.held <= onCard) break
      if (this.shown.includes(old)) continue
      gl.deleteTexture(texture)
      this.uploaded.delete(old)
      this.held -= bytes
    }
  }

  drawPainted(s: Shown) {
    const { gl, fresh } = this
    if (!fresh) return
    if (s.split !== null) return this.draw(s)
    const toCanvas = (s.live ?? s.toFrame).inverse()
    const [x0, y0, x1, y1] = fresh
    const around = Array.from({ length: toCanvas.cells + 1 }, (_, i) => i / toCanvas.cells).flatMap((t) => [
      { x: x0 + t * (x1 - x0), y: y0 },
      { x: x0 + t * (x1 - x0), y: y1 },
      { x: x0, y: y0 + t * (y1 - y0) },
      { x: x1, y: y0 + t * (y1 - y0) },
    ])
    const edge = around.map((p) => toCanvas.apply(p))
    const [xs, ys] = [edge.map((p) => p.x), edge.map((p) => p.y)]
    const [left, bottom] = [Math.floor(Math.min(...xs)) - 2, Math.floor(gl.canvas.height - Math.max(...ys)) - 2]
    gl.enable(gl.SCISSOR_TEST)
    gl.scissor(
      left,
      bottom,
      Math.ceil(Math.max(...xs)) + 2 - left,
      Math.ceil(gl.canvas.height - Math.min(...ys)) + 2 - bottom,
    )
    this.draw(s)
    gl.disable(gl.SCISSOR_TEST)
  }

  draw(s: Shown) {
    const { gl } = this
    this.fresh = null
    this.upload(0, s.plate)
    if (s.overlay) this.upload(1, s.overlay.bitmap)
    if (s.under) this.upload(3, s.under.picture)
    // Close up, every pixel of the frame is seen as it is.
    const filter = s.scale >= 2 ? gl.NEAREST : gl.LINEAR
    for (let unit = 0; unit < 4; unit++) {
      if (unit !== 2 && !this.shown[unit]) continue // nothing was bound to it yet
      gl.activeTexture(gl.TEXTURE0 + unit)
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, filter)
      gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MAG_FILTER, filter)
    }
    const { width, height } = gl.canvas
    gl.viewport(0, 0, width, height)
    gl.clear(gl.COLOR_BUFFER_BIT)
    const toCanvas = s.toFrame.inverse()
    const difference = s.view === 'difference'
    const plain = this.table ? this.through : this.plain
    const p = (!difference && s.channel === 'colour' && s.exposure === 0 ? plain : this.graded).use()
    gl.uniform2f(p.at('size'), this.width, this.height)
    if (p === plain) gl.uniform1f(p.at('share'), 1)
    if (p !== this.plain) this.tell(p, s.view)
    if (p === this.graded) {
      gl.uniform1i(p.at('plate'), 0)
      gl.uniform1i(p.at('channel'), channels.indexOf(s.channel))
      gl.uniform1f(p.at('gain'), 2 ** s.exposure)
      gl.uniform1i(p.at('difference'), difference ? 1 : 0)
      gl.uniform1f(p.at('strength'), s.gain)
    }
    gl.disable(gl.BLEND)
    this.rectangle(p, 0, toCanvas, [0, 0, this.width, this.height])
    const cut = s.split !== null && s.view !== 'plate'
    if (cut) {
      gl.enable(gl.SCISSOR_TEST)
      gl.scissor(Math.round(s.split!), 0, width, height)
    }
    if (bare(s.view)) {
      const dark = this.plain.use()
      gl.uniform2f(dark.at('size'), this.width, this.height)
      gl.uniform1f(dark.at('share'), 0)
      this.rectangle(dark, 0, toCanvas, [0, 0, this.width, this.height])
      p.use()
      if (p === plain) gl.uniform1f(p.at('share'), 1)
    }
    gl.enable(gl.BLEND)
    if (s.view !== 'plate') this.lay(p, s, toCanvas)
    if (cut) gl.disable(gl.SCISSOR_TEST)
    if (s.under) {
      const over = (s.under.difference ? this.against : plain).use()
      const back = s.under.toFrame.inverse()
      gl.uniform2f(over.at('size'), this.width, this.height)
      if (over !== this.plain) this.tell(over, 'result')
      if (s.under.difference) gl.uniform1i(over.at('plate'), 0)
      else gl.uniform1f(over.at('share'), s.under.share)
      this.rectangle(over, 3, back, [0, 0, this.width, this.height], undefined, chain(back, s.toFrame))
    }
  }

  /** Lays what differs from the plate over it. */
  private lay(p: Program, s: Shown, toCanvas: Mapping) {
    if (s.overlay) {
      const { x, y, bitmap, reduction } = s.overlay
      this.rectangle(p, 1, toCanvas, [x, y, bitmap.width * reduction, bitmap.height * reduction])
    }
    if (s.live && this.live) {
      // The layer is as large as the frame; only where it has paint is it drawn.
      const [left, top, right, bottom] = this.live
      const place = [left, top, right - left, bottom - top]
      const part = [left / this.width, top / this.height, place[2] / this.width, place[3] / this.height]
      this.rectangle(p, 2, s.live.inverse(), place, part)
    }
  }

  /**
   * Draws a rectangle of the frame with a texture, or with the part of one that lies there, carried to the canvas;
   * toPlate says for each of its places which place of the plate it is held against.
   */
  private rectangle(
    p: Program,
    unit: number,
    toCanvas: Mapping,
    place: number[],
    part = [0, 0, 1, 1],
    toPlate?: Mapping,
  ) {
    const { gl } = this
    gl.uniform1i(p.at('picture'), unit)
    gl.uniform4f(p.at('place'), place[0], place[1], place[2], place[3])
    gl.uniform4f(p.at('part'), part[0], part[1], part[2], part[3])
    const n = Math.max(toCanvas.cells, toPlate?.cells ?? 1)
    const [x, y, width, height] = place
    const out = new Float32Array((n + 1) ** 2 * stride)
    let at = 0
    for (let j = 0; j <= n; j++)
      for (let i = 0; i <= n; i++, at += stride) {
        const [u, v] = [i / n, j / n]
        const spot = { x: x + u * width, y: y + v * height }
        // Clip space runs from -1 to 1 with y upwards.
        const [cx, cy, w] = toCanvas.homogeneous(spot)
        out.set([u, v, (2 * cx) / gl.canvas.width - w, w - (2 * cy) / gl.canvas.height, w], at)
        if (toPlate) out.set(toPlate.homogeneous(spot), at + 5)
      }
    gl.bufferData(gl.ARRAY_BUFFER, out, gl.STREAM_DRAW)
    if (n !== this.cells) {
      this.cells = n
      gl.bufferData(gl.ELEMENT_ARRAY_BUFFER, triangles(n), gl.STATIC_DRAW)
    }
    gl.drawElements(gl.TRIANGLES, 6 * n * n, gl.UNSIGNED_SHORT, 0)
  }

  paint(x: number, y: number, width: number, height: number, rgba: Uint8Array) {
    const gl = this.gl
    gl.activeTexture(gl.TEXTURE2)
    gl.texSubImage2D(gl.TEXTURE_2D, 0, x, y, width, height, gl.RGBA, gl.UNSIGNED_BYTE, rgba)
    const part: Part = [x, y, x + width, y + height]
    this.live = join(this.live, part)
    this.fresh = join(this.fresh, part)
  }

  clearLive() {
    const gl = this.gl
    this.live = null
    gl.activeTexture(gl.TEXTURE2)
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, this.width, this.height, 0, gl.RGBA, gl.UNSIGNED_BYTE, null)
  }

  close() {
    this.gl.deleteTexture(this.layer)
    this.uploaded.forEach(({ texture }) => this.gl.deleteTexture(texture))
    this.gl.deleteBuffer(this.vertices)
    this.gl.deleteBuffer(this.indices)
    this.tableTextures.forEach((t) => this.gl.deleteTexture(t))
    for (const p of [this.plain, this.through, this.graded, this.against]) p.close()
    this.shown.fill(null)
  }
}

/** Without WebGL2: plate, patch and result, free; no channels, exposure, difference or perspective. */
class PlainScreen implements Screen {
  readonly kind = 'canvas'
  private context: CanvasRenderingContext2D
  private layer: OffscreenCanvas
  private table: Table | null = null
  private lookedUp = new WeakMap<ImageBitmap, OffscreenCanvas>()

  constructor(
    private canvas: HTMLCanvasElement,
    width: number,
    height: number,
  ) {
    this.context = canvas.getContext('2d', { alpha: false })!
    this.layer = new OffscreenCanvas(width, height)
  }

  draw(s: Shown) {
    const c = this.context
    c.setTransform(1, 0, 0, 1, 0, 0)
    c.fillStyle = '#1b1b1b'
    c.fillRect(0, 0, this.canvas.width, this.canvas.height)
    const [origin, right] = [s.toFrame.apply({ x: 0, y: 0 }), s.toFrame.apply({ x: 1, y: 0 })]
    const k = 1 / (right.x - origin.x)
    c.setTransform(k, 0, 0, k, -origin.x * k, -origin.y * k)
    c.imageSmoothingEnabled = s.scale < 2
    if (s.plate.width) c.drawImage(this.seen(s.plate), 0, 0, this.layer.width, this.layer.height)
    if (s.view === 'plate') return
    if (s.overlay?.bitmap.width) {
      const { x, y, bitmap, reduction } = s.overlay
      c.drawImage(this.seen(bitmap), x, y, bitmap.width * reduction, bitmap.height * reduction)
    }
    if (s.live) c.drawImage(this.layer, 0, 0)
  }

  look(table: Table | null) {
    if (table === this.table) return
    this.table = table
    this.lookedUp = new WeakMap()
  }

  /** A picture as the table shows it; each is looked up once. */
  private seen(picture: ImageBitmap): CanvasImageSource {
    const { table } = this
    if (!table) return picture
    let out = this.lookedUp.get(picture)
    if (!out) {
      out = new OffscreenCanvas(picture.width, picture.height)
      const g = out.getContext('2d', { willReadFrequently: true })!
      g.drawImage(picture, 0, 0)
      const pixels = g.getImageData(0, 0, picture.width, picture.height)
      lookUp(table, pixels.data)
      g.putImageData(pixels, 0, 0)
      this.lookedUp.set(picture, out)
    }
    return out
  }

  drawPainted(s: Shown) {
    this.draw(s)
  }

  paint(x: number, y: number, width: number, height: number, rgba: Uint8Array) {
    const pixels = new ImageData(new Uint8ClampedArray(rgba), width, height)
    if (this.table) lookUp(this.table, pixels.data)
    this.layer.getContext('2d')!.putImageData(pixels, x, y)
  }

  clearLive() {
    this.layer.getContext('2d')!.clearRect(0, 0, this.layer.width, this.layer.height)
  }

  close() {
    this.layer.width = this.layer.height = 0
  }
}
