// Knobs: each with its range, its help and the way back; what was changed from the file.

const by_id = (id) => document.getElementById(id);
const element = (tag, properties = {}, ...children) => {
  const made = Object.assign(document.createElement(tag), properties);
  made.append(...children);
  return made;
};

const group_names = {
  scene: 'Numbers of the scene', frame: 'Frame', cells: 'Cells', field: 'Fields', texture: 'Textures',
  light: 'Light', bounces: 'Bounces', passes: 'Translucent surfaces', crossings: 'Crossings', plane: 'Plane',
  reference: 'Reference', camera: 'Camera', window: 'Window', other: 'Other',
};
const open_at_first = new Set(['scene', 'frame', 'light', 'plane', 'field', 'bounces']);

/** Sliders of wide ranges go by ratios: 0 to 1 along them, and back. */
function scale_of(knob) {
  const value = Number(knob.value);
  const usual = Number(knob.default);
  let low = knob.low ?? Math.min(0, value, usual);
  let high = knob.high ?? Infinity;
  const whole = knob.kind === 'integer';
  // As far as the range goes, but no farther than makes sense of a slider.
  const reach = Math.max(Math.abs(value), Math.abs(usual), whole ? 4 : 1e-6) * 64;
  if (high > reach && high > low + 100) high = Math.max(low + 1, reach);
  if (low < -reach) low = -reach;
  const by_ratio = low >= 0 && high / Math.max(low, usual / 64, whole ? 1 : 1e-9) > 100;
  if (!by_ratio) {
    return {to: (share) => low + share * (high - low), from: (number) => (number - low) / (high - low)};
  }
  const least = Math.max(low, whole ? 1 : Math.max(usual / 64, high * 1e-7));
  const decades = Math.log(high / least);
  // The very left of the slider is the range's low end, which may be 0.
  return {
    to: (share) => share <= 0.005 ? low : least * Math.exp((share - 0.005) / 0.995 * decades),
    from: (number) => number < least ? 0 : 0.005 + 0.995 * Math.log(number / least) / decades,
  };
}

export class Knobs {
  constructor(sitting) {
    this.sitting = sitting;
    this.rows = new Map();
    this.searched = '';
    by_id('search').addEventListener('input', (event) => {
      this.searched = event.target.value.toLowerCase();
      this.#filter();
    });
    by_id('undo').addEventListener('click', () => this.sitting.act({undo: 1}));
    // All of a knob's help stands in one place: rows that grew would slip from under the pointer.
    const tell = (event) => {
      const help = event.target.closest?.('.knob')?.querySelector('.help');
      if (help) by_id('knob-help').textContent = help.textContent;
    };
    by_id('knobs').addEventListener('pointerover', tell);
    by_id('knobs').addEventListener('focusin', tell);
    sitting.addEventListener('acted', ({detail}) => {
      for (const row of this.rows.values()) {
        if (!detail.refused?.length) continue;
        const mine = detail.refused.find((text) => text.includes(row.knob.name + ':') || text.startsWith(row.knob.name));
        if (mine) row.refuse(mine);
      }
    });
  }

  /** The knobs as they stand. The rows stay where they are: somebody may be typing in one. */
  show(knobs) {
    const names = knobs.map((knob) => knob.name).join();
    if (names !== this.names) {
      this.names = names;
      this.#build(knobs);
    }
    for (const knob of knobs) this.rows.get(knob.name).update(knob);
    this.knobs = knobs;
    this.#filter();
  }

  show_changed(changed, undo) {
    by_id('undo').disabled = undo === 0;
    const box = by_id('changed');
    box.replaceChildren();
    for (const {name, value, file} of changed) {
      const back = element('button', {className: 'btn btn-sm btn-outline-secondary back', textContent: 'back', title: `${name} back to ${file}`});
      back.addEventListener('click', () => this.sitting.act({reset: name}));
      box.append(element('div', {className: 'change'}, element('span', {}, `${name} ${file} → `, element('strong', {textContent: value})), back));
    }
  }

  #build(knobs) {
    this.rows.clear();
    const groups = new Map();
    for (const knob of knobs) {
      const group = knob.name.includes('.') ? knob.name.split('.')[0] : 'other';
      if (!groups.has(group)) groups.set(group, []);
      groups.get(group).push(knob);
    }
    const box = by_id('knobs');
    box.replaceChildren();
    for (const [group, members] of groups) {
      const details = element('details', {className: 'group', open: open_at_first.has(group)},
          element('summary', {textContent: group_names[group] ?? group}));
      for (const knob of members) {
        const row = new Row(this.sitting, knob);
        this.rows.set(knob.name, row);
        details.append(row.box);
      }
      box.append(details);
    }
    this.#filter();
  }

  #filter() {
    for (const details of by_id('knobs').children) {
      let any = false;
      for (const box of details.querySelectorAll('.knob')) {
        const fits = this.searched === '' || box.dataset.words.includes(this.searched);
        // Those without effect as the others stand are only there for who looks for them.
        box.classList.toggle('found', this.searched !== '' && fits);
        box.hidden = !fits;
        any ||= fits && (this.searched !== '' || !box.classList.contains('idle'));
      }
      details.hidden = !any;
      if (this.searched !== '' && any) details.open = true;
    }
  }
}

let count = 0;

class Row {
  constructor(sitting, knob) {
    this.sitting = sitting;
    this.knob = knob;
    const id = `knob-${++count}`;
    const label = element('label', {htmlFor: id, textContent: knob.name.startsWith('scene.') ? knob.name.slice(6) : knob.name});
    this.head = element('div', {className: 'head'}, label);
    this.box = element('div', {className: 'knob'}, this.head);
    this.box.dataset.words = `${knob.name} ${knob.help}`.toLowerCase();
    this.box.dataset.knob = knob.name;
    const describe = `${id}-help`;
    if (knob.kind === 'flag') {
      this.input = element('input', {type: 'checkbox', className: 'form-check-input', id});
      this.input.setAttribute('role', 'switch');
      this.input.addEventListener('change', () => this.#set(String(this.input.checked)));
      this.head.append(element('div', {className: 'form-check form-switch'}, this.input));
    } else if (knob.choices) {
      this.input = element('select', {className: 'form-select form-select-sm', id},
          ...knob.choices.map((choice) => element('option', {textContent: choice})));
      this.input.addEventListener('change', () => this.#set(this.input.value));
      this.head.append(this.input);
    } else {
      this.input = element('input', {className: 'form-control form-control-sm', id, spellcheck: false});
      this.input.addEventListener('change', () => this.#set(this.input.value.trim()));
      this.input.addEventListener('keydown', (event) => {
        if (event.key === 'Escape') this.input.value = this.knob.value;
      });
      this.head.append(this.input);
    }
    this.input.setAttribute('aria-describedby', describe);
    if (knob.unit) this.head.append(element('span', {className: 'unit', textContent: knob.unit}));
    this.back = element('button', {className: 'btn btn-sm btn-outline-secondary back', textContent: '↺'});
    this.back.addEventListener('click', () => this.sitting.act({reset: knob.name}));
    this.head.append(this.back);
    if (knob.kind === 'integer' || knob.kind === 'number') {
      this.slider = element('input', {type: 'range', className: 'form-range', min: 0, max: 1, step: 0.001});
      this.slider.setAttribute('aria-label', knob.name);
      this.slider.addEventListener('input', () => {
        const number = this.scale.to(Number(this.slider.value));
        const text = knob.kind === 'integer' ? String(Math.round(number)) : String(Number(number.toPrecision(3)));
        this.input.value = text;
        this.turning = true;
        this.#set(text, true);
      });
      this.slider.addEventListener('change', () => {
        this.turning = false;
        this.#set(this.input.value);
      });
      this.box.append(this.slider);
    }
    this.wrong = element('p', {className: 'wrong', hidden: true});
    this.wrong.setAttribute('role', 'alert');
    this.box.append(this.wrong, element('p', {className: 'help', id: describe, textContent: `${knob.help} (${knob.expected}; default ${knob.default})`}));
  }

  #set(value, turning = false) {
    this.wrong.hidden = true;
    this.sitting.act({set: turning ? [this.knob.name, value, true] : [this.knob.name, value]});
  }

  refuse(text) {
    this.wrong.textContent = text;
    this.wrong.hidden = false;
  }

  update(knob) {
    const same = this.knob.value === knob.value && this.scale;
    this.knob = knob;
    this.box.classList.toggle('turned', knob.value !== knob.file);
    this.box.classList.toggle('idle', !knob.applies);
    this.back.disabled = knob.value === knob.file;
    this.back.title = `back to ${knob.file}, as in the file`;
    this.back.setAttribute('aria-label', `${knob.name} back to ${knob.file}, as in the file`);
    if (knob.kind === 'flag') {
      this.input.checked = knob.value === 'true';
    } else if (document.activeElement !== this.input && !this.turning) {
      this.input.value = knob.value;
    }
    if (!this.slider || this.turning) return;
    if (!same) this.scale = scale_of(knob);
    this.slider.value = this.scale.from(Number(knob.value));
    this.slider.setAttribute('aria-valuetext', knob.value + (knob.unit ? ` ${knob.unit}` : ''));
  }
}
