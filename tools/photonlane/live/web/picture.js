// The picture: drawn, looked about in, walked through, pointed at.

import {ask} from './link.js';

const by_id = (id) => document.getElementById(id);

export class Picture {
  constructor(sitting) {
    this.sitting = sitting;
    this.canvas = by_id('picture');
    this.context = this.canvas.getContext('2d', {alpha: false});
    this.plane = false;
    this.facts = null;
    this.held = new Set();
    this.pointers = new Map();
    this.drawn = 0;
    this.onclick = () => {};
    this.ondraw = () => {};
    this.#listen();
    new ResizeObserver(() => this.#resized()).observe(by_id('frame'));
  }

  #resized() {
    const box = by_id('frame').getBoundingClientRect();
    const size = [Math.round(box.width), Math.round(box.height)].map((side) => Math.min(4096, Math.max(16, side)));
    if (this.size && this.size[0] === size[0] && this.size[1] === size[1]) return;
    this.size = size;
    this.sitting.act({size});
  }

  async draw(facts, blob) {
    let bitmap;
    try {
      bitmap = await createImageBitmap(blob);
    } catch {
      return;
    }
    // Pictures are decoded side by side: an older one may be done later.
    if (this.facts && facts.number < this.facts.number && facts.sitting === this.facts.sitting) return;
    this.facts = facts;
    const [width, height] = this.size ?? facts.size;
    if (this.canvas.width !== width || this.canvas.height !== height) {
      this.canvas.width = width;
      this.canvas.height = height;
    }
    this.context.imageSmoothingEnabled = facts.layer === 'color';
    this.context.drawImage(bitmap, 0, 0, width, height);
    bitmap.close();
    this.drawn += 1;
    this.late = Date.now() - facts.at;
    this.#legend(facts.legend);
    this.#where(facts);
    this.ondraw(facts);
  }

  #legend(legend) {
    const box = by_id('legend');
    const text = JSON.stringify(legend ?? null);
    if (box.dataset.shown === text) return;
    box.dataset.shown = text;
    box.replaceChildren();
    if (!legend) return;
    const title = document.createElement('span');
    title.textContent = legend.title;
    box.append(title);
    if (legend.ramp) {
      const bar = document.createElement('canvas');
      bar.width = 192;
      bar.height = 12;
      bar.setAttribute('aria-hidden', 'true');
      const context = bar.getContext('2d');
      const gradient = context.createLinearGradient(0, 0, 192, 0);
      legend.colors.forEach(([r, g, b], i) => gradient.addColorStop(i / (legend.colors.length - 1), `rgb(${r},${g},${b})`));
      context.fillStyle = gradient;
      context.fillRect(0, 0, 192, 12);
      const [low, high] = [legend.low, legend.high].map((end) => {
        const span = document.createElement('span');
        span.textContent = Number(end.toPrecision(4));
        return span;
      });
      box.append(low, bar, high);
    }
    for (const {color, name} of legend.swatches) {
      const one = document.createElement('span');
      const swatch = document.createElement('i');
      swatch.className = 'swatch';
      swatch.style.background = `rgb(${color})`;
      one.append(swatch, name);
      box.append(one);
    }
  }

  #where(facts) {
    const out = by_id('where');
    if (facts.eye) {
      const eye = facts.eye.map((one) => one.toFixed(2)).join(', ');
      out.textContent = `${facts.room ? facts.room + ' ' : ''}${eye} · heading ${facts.heading.toFixed(1)}° · pitch ${facts.pitch.toFixed(1)}°`;
    } else {
      out.textContent = `width ${Number(facts.width).toPrecision(5)}`;
    }
  }

  /** Where a pointer is over the picture, 0 to 1. */
  place(event) {
    const box = this.canvas.getBoundingClientRect();
    const share = (at, from, side) => Math.min(0.99999, Math.max(0, (at - from) / side));
    return [share(event.clientX, box.left, box.width), share(event.clientY, box.top, box.height)];
  }

  #turn(right, down) {
    if (this.plane) {
      const box = this.canvas.getBoundingClientRect();
      this.sitting.act({pan: [-right * this.size[0] / box.width, -down * this.size[1] / box.height]});
    } else {
      const field = this.facts?.field_of_view ?? 50;
      const side = this.canvas.getBoundingClientRect().height;
      this.sitting.act({look: [right * field / side, down * field / side]});
    }
  }

  #scale(factor, x, y) {
    if (this.plane) {
      this.sitting.act({zoom: [x, y, factor]});
    } else {
      this.sitting.act({widen: 1 / factor});
    }
  }

  #drive() {
    const held = (...codes) => codes.some((code) => this.held.has(code)) ? 1 : 0;
    const fast = held('ShiftLeft', 'ShiftRight') ? 1 : 0.5;
    const drive = {
      ahead: fast * (held('KeyW') - held('KeyS')),
      right: fast * (held('KeyD') - held('KeyA')),
      up: fast * (held('KeyR') - held('KeyF')),
      turn: fast * (held('ArrowLeft', 'KeyQ') - held('ArrowRight', 'KeyE')),
      tilt: fast * (held('ArrowUp') - held('ArrowDown')),
    };
    const text = JSON.stringify(drive);
    if (text === this.driven) return;
    this.driven = text;
    this.sitting.act({drive});
  }

  #key(event) {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const code = event.code;
    if (this.plane) {
      const step = {ArrowLeft: [-40, 0], ArrowRight: [40, 0], ArrowUp: [0, -40], ArrowDown: [0, 40]}[code];
      if (step) this.sitting.act({pan: step});
      else if (event.key === '+' || event.key === '=') this.#scale(1.25, 0.5, 0.5);
      else if (event.key === '-') this.#scale(0.8, 0.5, 0.5);
      else if (event.key === 'Enter') this.onclick(0.5, 0.5);
      else return;
      event.preventDefault();
      return;
    }
    if (event.key === 'Enter') {
      this.onclick(0.5, 0.5);
    } else if (event.key === '+' || event.key === '=') {
      this.#scale(1.1);
    } else if (event.key === '-') {
      this.#scale(1 / 1.1);
    } else if (/^(Key[WASDQERF]|Arrow(Left|Right|Up|Down)|Shift(Left|Right))$/.test(code)) {
      this.held.add(code);
      this.#drive();
    } else {
      return;
    }
    event.preventDefault();
  }

  #listen() {
    const canvas = this.canvas;
    canvas.addEventListener('pointerdown', (event) => {
      canvas.focus({preventScroll: true});
      canvas.setPointerCapture(event.pointerId);
      this.pointers.set(event.pointerId, {x: event.clientX, y: event.clientY, from: [event.clientX, event.clientY], level: true});
    });
    canvas.addEventListener('pointermove', (event) => {
      const pointer = this.pointers.get(event.pointerId);
      if (!pointer) {
        if (event.pointerType === 'mouse') this.#point(event);
        return;
      }
      const right = event.clientX - pointer.x;
      let down = event.clientY - pointer.y;
      if (this.pointers.size === 2) {
        const [one, other] = [...this.pointers.values()];
        const before = Math.hypot(one.x - other.x, one.y - other.y);
        Object.assign(pointer, {x: event.clientX, y: event.clientY});
        const now = Math.hypot(one.x - other.x, one.y - other.y);
        const [x, y] = this.place({clientX: (one.x + other.x) / 2, clientY: (one.y + other.y) / 2});
        pointer.far = true;
        if (before > 0 && now > 0) this.#scale(now / before, x, y);
        return;
      }
      const way = Math.hypot(event.clientX - pointer.from[0], event.clientY - pointer.from[1]);
      if (way > 4) pointer.far = true;
      if (!pointer.far) return;
      // A level eye stays level until the drag clearly goes up or down: level pictures are cheaper.
      if (!this.plane && pointer.level) {
        if (Math.abs(event.clientY - pointer.from[1]) < 12) down = 0;
        else pointer.level = false;
      }
      Object.assign(pointer, {x: event.clientX, y: event.clientY});
      this.#turn(right, down);
    });
    const up = (event) => {
      const pointer = this.pointers.get(event.pointerId);
      this.pointers.delete(event.pointerId);
      if (pointer && !pointer.far && event.type === 'pointerup') this.onclick(...this.place(event));
    };
    canvas.addEventListener('pointerup', up);
    canvas.addEventListener('pointercancel', up);
    canvas.addEventListener('pointerleave', () => { this.pointed = null; });
    canvas.addEventListener('wheel', (event) => {
      event.preventDefault();
      const amount = Math.max(-1, Math.min(1, -event.deltaY / 300));
      this.#scale(Math.exp(amount), ...this.place(event));
    }, {passive: false});
    canvas.addEventListener('keydown', (event) => this.#key(event));
    addEventListener('keyup', (event) => {
      if (this.held.delete(event.code)) this.#drive();
    });
    const let_go = () => {
      this.held.clear();
      if (!this.plane && this.driven) this.#drive();
    };
    canvas.addEventListener('blur', let_go);
    addEventListener('blur', let_go);
  }

  /** What the pixel under the pointer shows: one question at a time. */
  async #point(event) {
    this.pointed = this.place(event);
    if (this.asking) return;
    this.asking = true;
    while (this.pointed) {
      const [x, y] = this.pointed;
      this.pointed = null;
      try {
        const told = await (await ask(this.sitting.at(`pixel?x=${x}&y=${y}`))).json();
        const box = by_id('pixel');
        const short = (value) => typeof value === 'number' ? Number(value.toPrecision(4)) : value ?? '–';
        box.replaceChildren(`pixel ${told.x}, ${told.y}: `);
        for (const {name, unit, value} of told.layers) {
          const strong = document.createElement('b');
          strong.textContent = Array.isArray(value) ? value.map(short).join(' ') : short(value);
          box.append(`${name} `, strong, unit && typeof value === 'number' ? ` ${unit}; ` : '; ');
        }
      } catch {
        // The next move asks again.
      }
      await new Promise((go) => setTimeout(go, 60));
    }
    this.asking = false;
  }
}
