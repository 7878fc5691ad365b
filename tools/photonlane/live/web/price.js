// What frames cost, how wrong they are, what was tried, and two settings against each other.

import {ask} from './link.js';

const by_id = (id) => document.getElementById(id);
const style = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const still_motion = matchMedia('(prefers-reduced-motion: reduce)');
const median = (values) => {
  const sorted = [...values].sort((a, b) => a - b);
  return sorted.length ? sorted[sorted.length >> 1] : NaN;
};
export const label_of = (changed) =>
    changed.length ? changed.map(({name, value}) => `${name}=${value}`).join(', ') : 'as the file has it';
const ms_text = (ms) => ms === null ? '–' : ms < 10 ? ms.toFixed(1) : Math.round(ms);

export class Price {
  constructor(sitting, picture) {
    this.sitting = sitting;
    this.picture = picture;
    this.times = [];
    this.first = null;
    this.tried = [];
    this.a = [];
    this.changed = [];
    Chart.defaults.animation = false;
    Chart.defaults.font.family = getComputedStyle(document.body).fontFamily;
    this.#make_charts();
    matchMedia('(prefers-color-scheme: dark)').addEventListener('change', () => {
      this.times_chart.destroy();
      this.front_chart.destroy();
      this.#make_charts();
      this.#draw_front();
    });
    by_id('tab-price').addEventListener('shown.bs.tab', () => this.#draw_times());
    by_id('measuring').addEventListener('change', (event) => this.sitting.act({measure: event.target.checked}));
    const number = (id, act) => by_id(id).addEventListener('change', (event) => {
      const value = Number(event.target.value);
      if (Number.isFinite(value)) this.sitting.act({[act]: value});
    });
    number('frame-ms', 'frame_ms');
    number('quality', 'quality');
    by_id('split-on').addEventListener('click', () => this.#against('split'));
    by_id('flicker').addEventListener('click', () => this.#against('flicker'));
    by_id('difference').addEventListener('click', () => this.#against('difference'));
    by_id('error-picture').addEventListener('click', () => this.#against('error'));
    by_id('ab-off').addEventListener('click', () => this.stop_against());
    by_id('split').addEventListener('input', () => this.#clip());
  }

  #make_charts() {
    const ink = style('--soft');
    const line = style('--line');
    const axis = (title, more = {}) => ({
      title: {display: true, text: title, color: ink}, ticks: {color: ink, maxTicksLimit: 6}, grid: {color: line}, ...more});
    const guide = (value) => ({
      label: `${value} ms`, data: [], pointRadius: 0, borderWidth: 1, borderDash: [4, 4], borderColor: ink, guide: value});
    this.times_chart = new Chart(by_id('times'), {
      type: 'line',
      data: {labels: [], datasets: [
        {label: 'frame', data: [], pointRadius: 0, borderWidth: 1.5, borderColor: style('--leaf')}, guide(16), guide(33)]},
      options: {maintainAspectRatio: false, plugins: {legend: {display: false}},
                scales: {x: {display: false}, y: axis('ms a frame', {type: 'logarithmic'})}},
    });
    this.front_chart = new Chart(by_id('front'), {
      type: 'scatter',
      data: {datasets: [
        {label: 'tried', data: [], pointRadius: 5, backgroundColor: style('--soft')},
        {label: 'front', data: [], showLine: true, pointRadius: 6, borderColor: style('--leaf'), backgroundColor: style('--leaf'), borderWidth: 1.5},
        {label: 'now', data: [], pointRadius: 9, pointStyle: 'circle', backgroundColor: 'transparent', borderColor: style('--ink'), borderWidth: 2}]},
      options: {
        maintainAspectRatio: false,
        plugins: {legend: {display: false}, tooltip: {callbacks: {label: ({raw}) => `${label_of(raw.point.changed)}: ${ms_text(raw.x)} ms, RMSE ${raw.y.toFixed(4)}`}}},
        scales: {x: axis('ms a frame', {beginAtZero: true}), y: axis('RMSE', {beginAtZero: true})},
        onClick: (event, elements) => {
          if (elements.length) {
            const {datasetIndex, index} = elements[0];
            this.#take(this.front_chart.data.datasets[datasetIndex].data[index].point);
          }
        },
      },
    });
  }

  #take(point) {
    this.sitting.act({settings: point.changed});
  }

  drawn(facts) {
    this.facts = facts;
    this.times.push({ms: facts.ms + facts.send_ms, whole: facts.whole});
    if (this.times.length > 120) this.times.shift();
    if (by_id('pane-price').classList.contains('active')) this.#draw_times();
    if (facts.last || facts.whole) this.#stages(facts.frame);
  }

  #draw_times() {
    const shown = this.times.map(({ms}) => ms);
    const {data} = this.times_chart;
    data.labels = shown.map((_, i) => i);
    data.datasets[0].data = shown;
    const most = Math.max(...shown, 1);
    for (const set of data.datasets.slice(1)) {
      set.data = most * 1.3 > set.guide ? shown.map(() => set.guide) : [];
    }
    this.times_chart.update('none');
    const facts = this.facts;
    if (!facts) return;
    const whole = this.times.filter((one) => one.whole).map((one) => one.ms);
    let text = `${facts.size[0]}x${facts.size[1]}: ${ms_text(facts.ms)} ms, and ${ms_text(facts.send_ms)} ms to send it`;
    if (whole.length > 2) text += `; median of the last ${whole.length} whole frames ${ms_text(median(whole))} ms`;
    const tally = facts.frame.tally;
    text += `. ${tally.lanes.toLocaleString('en')} lanes, ${(tally.steps / Math.max(1, tally.lanes)).toFixed(1)} steps a lane`;
    if (tally.spent) text += `, ${tally.spent.toLocaleString('en')} spent`;
    if (facts.frame.paths) {
      const {samples, rmse} = facts.frame.paths;
      text += `; ${Number(samples.toPrecision(4))} samples a pixel${Number.isFinite(rmse) && rmse !== null ? `, RMSE ${rmse.toFixed(4)} left` : ''}`;
    }
    by_id('price-now').textContent = text + '.';
  }

  #stages(frame) {
    const body = by_id('stages').tBodies[0];
    body.replaceChildren();
    for (const {lanes, work, ms} of (frame.cost.stages ?? []).slice(0, 8)) {
      const row = body.insertRow();
      row.insertCell().textContent = lanes;
      row.insertCell().textContent = work;
      const cell = row.insertCell();
      cell.className = 'number';
      cell.textContent = ms_text(ms);
    }
  }

  show(state) {
    this.tried = state.tried;
    this.changed = state.changed.map(({name, value}) => ({name, value}));
    by_id('measuring').checked = state.measuring;
    for (const [id, value] of [['frame-ms', state.frame_ms], ['quality', state.quality]]) {
      if (document.activeElement !== by_id(id)) by_id(id).value = value;
    }
    this.#draw_front();
  }

  is_now(point) {
    return JSON.stringify(point.changed) === JSON.stringify(this.changed);
  }

  #draw_front() {
    const known = this.tried.filter((point) => point.rmse !== undefined && point.ms !== null);
    const dot = (point) => ({x: point.ms, y: point.rmse, point});
    const front = [];
    for (const point of [...known].sort((a, b) => a.ms - b.ms || a.rmse - b.rmse)) {
      if (!front.length || point.rmse < front.at(-1).rmse) front.push(point);
    }
    const sets = this.front_chart.data.datasets;
    sets[0].data = known.filter((point) => !front.includes(point)).map(dot);
    sets[1].data = front.map(dot);
    sets[2].data = known.filter((point) => this.is_now(point)).map(dot);
    this.front_chart.update('none');
    const now = this.tried.find((point) => this.is_now(point));
    by_id('error-now').textContent = now?.rmse !== undefined
        ? now.noise ? `RMSE ${now.rmse.toFixed(4)} left, by the noise of its samples.`
        : `RMSE ${now.rmse.toFixed(4)} against the file's settings with all knobs at their best that were turned${now.share_other ? `, ${(100 * now.share_other).toPrecision(2)} % of the pixels show something else` : ''}.`
        : 'The error of this setting is not known yet.';
    const body = by_id('tried').tBodies[0];
    body.replaceChildren();
    for (const point of this.tried) {
      const row = body.insertRow();
      row.className = this.is_now(point) ? 'table-active' : '';
      row.insertCell().textContent = label_of(point.changed);
      for (const text of [ms_text(point.ms), point.rmse === undefined ? '–' : point.rmse.toFixed(4)]) {
        const cell = row.insertCell();
        cell.className = 'number';
        cell.textContent = text;
      }
      const cell = row.insertCell();
      const button = (text, title, act) => {
        const made = document.createElement('button');
        made.className = 'btn btn-sm btn-outline-secondary back';
        made.textContent = text;
        made.title = title;
        made.addEventListener('click', act);
        cell.append(made, ' ');
        return made;
      };
      button('set', `set ${label_of(point.changed)}`, () => this.#take(point));
      const a = button('A', `${label_of(point.changed)} as A`, () => {
        this.a = point.changed;
        this.#draw_front();
      });
      if (JSON.stringify(point.changed) === JSON.stringify(this.a)) a.classList.add('active');
    }
  }

  async #against(way) {
    const other = by_id('other');
    const body = this.a;
    let bitmap;
    try {
      const asked = way === 'error' ? ask(this.sitting.at('difference.png')) :
          ask(this.sitting.at('still.png'), {method: 'POST', body});
      bitmap = await createImageBitmap(await (await asked).blob());
    } catch (problem) {
      this.sitting.tell('acted', {refused: [problem.message]});
      return;
    }
    this.stop_against();
    const canvas = this.picture.canvas;
    other.width = canvas.width;
    other.height = canvas.height;
    const context = other.getContext('2d', {willReadFrequently: true});
    context.drawImage(bitmap, 0, 0, other.width, other.height);
    if (way === 'difference') {
      const a = context.getImageData(0, 0, other.width, other.height);
      const b = this.picture.context.getImageData(0, 0, other.width, other.height);
      for (let i = 0; i < a.data.length; i += 4) {
        for (let k = 0; k < 3; ++k) a.data[i + k] = Math.min(255, 4 * Math.abs(a.data[i + k] - b.data[i + k]));
      }
      context.putImageData(a, 0, 0);
    }
    other.hidden = false;
    by_id('ab-off').hidden = false;
    by_id('names').hidden = false;
    by_id('name-a').textContent = {error: 'Error, black where there is none', difference: 'A and B apart, times 4'}[way] ?? `A: ${label_of(this.a)}`;
    by_id('name-b').textContent = way === 'split' || way === 'flicker' ? `B: ${label_of(this.changed)}` : '';
    if (way === 'split') {
      by_id('split').hidden = false;
      this.#clip();
    } else {
      other.style.clipPath = '';
    }
    if (way === 'flicker') {
      const period = still_motion.matches ? 2000 : 600;
      this.flickering = setInterval(() => {
        other.hidden = !other.hidden;
        by_id('name-a').hidden = other.hidden;
        by_id('name-b').hidden = !other.hidden;
      }, period);
    }
  }
  #clip() {
    by_id('other').style.clipPath = `inset(0 ${100 - Number(by_id('split').value)}% 0 0)`;
  }
  stop_against() {
    clearInterval(this.flickering);
    for (const id of ['other', 'split', 'names', 'ab-off']) by_id(id).hidden = true;
    by_id('name-a').hidden = by_id('name-b').hidden = false;
  }
}
