// Puts the page together.

import {ask, Sitting} from './link.js';
import {Knobs} from './knobs.js';
import {Picture} from './picture.js';
import {Price} from './price.js';
import {Text} from './text.js';

const by_id = (id) => document.getElementById(id);
const sitting = new Sitting();
const picture = new Picture(sitting);
const knobs = new Knobs(sitting);
const price = new Price(sitting, picture);
const text = new Text(sitting);
let state = null;

const keys_of_rooms = 'Drag to look, W A S D to walk, Q E or arrows to turn and tilt, R F up and down in flight, Shift faster, wheel or + − for the field of view, click for a lane.';
const keys_of_planes = 'Drag or arrows to pan, wheel or + − to zoom about the pointer.';

function show_state(told) {
  state = told;
  picture.plane = told.plane;
  document.title = `${told.title || told.path} · Photon Lane`;
  by_id('title').textContent = told.title || told.path;
  by_id('keys').textContent = told.plane ? keys_of_planes : keys_of_rooms;
  for (const one of document.querySelectorAll('.rooms-only')) one.hidden = told.plane;
  for (const one of document.querySelectorAll('.planes-only')) one.hidden = !told.plane;
  const layer = by_id('layer');
  const names = told.layers.map(({name}) => name).join();
  if (layer.dataset.names !== names) {
    layer.dataset.names = names;
    layer.replaceChildren(...told.layers.map(({name, help}) => Object.assign(document.createElement('option'), {value: name, textContent: name, title: help})));
  }
  layer.value = told.layer;
  by_id('fly').checked = told.flying;
  if (document.activeElement !== by_id('speed')) by_id('speed').value = told.speed;
  const problem = by_id('problem');
  problem.hidden = !told.problem && !refused;
  problem.textContent = told.problem ?? refused ?? '';
  knobs.show_changed(told.changed, told.undo);
  price.show(told);
  by_id('camera-text').textContent = told.camera;
  by_id('budget-text').textContent = told.budget;
  for (const what of ['budget', 'camera']) by_id(`write-${what}`).hidden = !told.may_write;
  by_id('save').textContent = told.may_write ? 'Write and take (Ctrl-S)' : 'Take (Ctrl-S)';
}

let refused = null;
let asking = false;
let wanted = 0;

/** Reads state and knobs anew; while that lasts, later wishes are one. */
async function look_again(number = Infinity) {
  wanted = Math.max(wanted, number);
  if (asking || !sitting.is_open) return;
  asking = true;
  while (wanted > 0) {
    wanted = 0;
    try {
      const [told, all] = await Promise.all(['state', 'knobs'].map(async (what) => (await ask(sitting.at(what))).json()));
      show_state(told);
      knobs.show(all);
      await text.follow(told);
    } catch {
      // Pictures tell when the server is gone; the next one asks again.
    }
    await new Promise((go) => setTimeout(go, 120));
  }
  asking = false;
}

let shown = '';
function say_doing({doing, share}) {
  by_id('doing').textContent = shown + (doing ? ` · ${doing} ${Math.round(100 * share)} %` : '');
}

picture.ondraw = (facts) => {
  price.drawn(facts);
  const rate = facts.frame.paths ? `${Number(facts.frame.paths.samples.toPrecision(3))} samples` : `${facts.ms < 10 ? facts.ms.toFixed(1) : Math.round(facts.ms)} ms`;
  shown = `${facts.size[0]}x${facts.size[1]} · ${rate}`;
  by_id('doing').textContent = shown;
  if (!state || facts.state !== state.state) look_again(facts.state);
};
picture.onclick = async (x, y) => {
  bootstrap.Tab.getOrCreateInstance(by_id('tab-lane')).show();
  if (state?.plane) {
    by_id('lane-hint').textContent = 'A plane has no lanes: the layers under the pointer tell how each point ended.';
    return;
  }
  by_id('lane-summary').textContent = 'asking …';
  try {
    const told = await (await ask(sitting.at(`lane?x=${x}&y=${y}`))).json();
    by_id('lane-hint').textContent = `Pixel ${told.x}, ${told.y}${state?.paths ? ', as its lanes go where light is direct' : ''}`;
    by_id('lane-summary').textContent = told.summary;
    by_id('lane-text').textContent = told.text;
    by_id('lane-more').hidden = false;
    const plan = by_id('lane-plan');
    const blob = await (await ask(sitting.at(`lane.png?x=${x}&y=${y}`))).blob();
    URL.revokeObjectURL(plan.src);
    plan.src = URL.createObjectURL(blob);
    plan.hidden = false;
  } catch (problem) {
    by_id('lane-summary').textContent = problem.message;
  }
};

sitting.remembered = () => {
  const acts = [];
  if (picture.size) acts.push({size: picture.size});
  if (!state) return acts;
  acts.push({settings: state.changed.map(({name, value}) => ({name, value}))}, {layer: state.layer},
      {fly: state.flying}, {speed: state.speed}, {frame_ms: state.frame_ms}, {quality: state.quality},
      {measure: state.measuring});
  for (const {name, value, file} of knobs.knobs ?? []) {
    if (/^(camera|window)\./.test(name) && value !== file) acts.push({set: [name, value]});
  }
  return acts;
};
sitting.addEventListener('acted', ({detail}) => {
  refused = detail.refused?.length ? detail.refused.join('; ') : null;
  by_id('problem').hidden = !refused;
  by_id('problem').textContent = refused ?? '';
  if (detail.version) window.photon_lane.version = detail.version;
  if (!state || detail.state !== state.state) look_again(detail.state);
});
sitting.addEventListener('progress', ({detail}) => {
  say_doing(detail);
  if (state && detail.state !== state.state) look_again(detail.state);
});
sitting.addEventListener('gone', ({detail}) => {
  by_id('gone').hidden = false;
  by_id('gone').textContent = detail;
});
sitting.addEventListener('there', () => { by_id('gone').hidden = true; });
sitting.addEventListener('again', () => {
  state = null;
  picture.facts = null;
  window.photon_lane.version = 0;
  look_again();
});

by_id('layer').addEventListener('change', (event) => sitting.act({layer: event.target.value}));
by_id('home').addEventListener('click', () => sitting.act({home: 1}));
by_id('fly').addEventListener('change', (event) => sitting.act({fly: event.target.checked}));
by_id('speed').addEventListener('change', (event) => {
  const speed = Number(event.target.value);
  if (speed > 0) sitting.act({speed});
});
/** Walks to a landmark: the window changes by steps, so that one sees where it goes. */
for (const button of document.querySelectorAll('[data-find]')) {
  button.addEventListener('click', async () => {
    const box = by_id('pixel');
    box.textContent = 'looking …';
    try {
      const told = await (await ask(sitting.at(`find?kind=${button.dataset.find}`))).json();
      box.textContent = told.text;
      const [center, width, rotation] = ['center', 'width', 'rotation'].map((name) => told.window.find(([knob]) => knob === `window.${name}`));
      const from = Math.log(Number(picture.facts.width));
      const to = Math.log(Number(width[1]));
      sitting.act({set: [...center, true]});
      const steps = matchMedia('(prefers-reduced-motion: reduce)').matches || to === -Infinity ? 0 : Math.min(60, Math.ceil(8 * Math.abs(to - from)));
      for (let i = 1; i < steps; ++i) {
        sitting.act({set: [width[0], String(Math.exp(from + (to - from) * i / steps)), true]});
        await new Promise((go) => setTimeout(go, 50));
      }
      sitting.act({set: width}, {set: rotation});
    } catch (problem) {
      box.textContent = problem.message;
    }
  });
}
for (const button of document.querySelectorAll('[data-copy]')) {
  button.addEventListener('click', async () => {
    await navigator.clipboard.writeText(by_id(button.dataset.copy).textContent);
    by_id('kept').textContent = 'copied';
  });
}
for (const button of document.querySelectorAll('[data-file]')) {
  button.addEventListener('click', async () => {
    const kept = by_id('kept');
    kept.textContent = 'making it …';
    try {
      const blob = await (await ask(sitting.at(button.dataset.file))).blob();
      const link = Object.assign(document.createElement('a'), {href: URL.createObjectURL(blob), download: button.dataset.file});
      link.click();
      setTimeout(() => URL.revokeObjectURL(link.href), 10000);
      kept.textContent = '';
    } catch (problem) {
      kept.textContent = problem.message;
    }
  });
}
for (const what of ['budget', 'camera']) {
  by_id(`write-${what}`).addEventListener('click', async () => {
    try {
      await ask(sitting.at(what), {method: 'POST'});
      by_id('kept').textContent = 'written';
    } catch (problem) {
      by_id('kept').textContent = problem.message;
    }
  });
}
addEventListener('pagehide', () => sitting.close());
addEventListener('pageshow', async (event) => {
  if (event.persisted) await open(sitting.scene);
});
addEventListener('keydown', (event) => {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 's') {
    event.preventDefault();
    text.take();
  }
});

async function open(scene) {
  text.version = null;
  text.text = undefined;
  state = null;
  picture.facts = null;
  for (const id of ['pixel', 'lane-summary', 'lane-text']) by_id(id).textContent = '';
  by_id('lane-plan').hidden = by_id('lane-more').hidden = true;
  price.stop_against();
  window.photon_lane.version = 0;
  await sitting.lasting(() => sitting.open(scene));
  if (picture.size) sitting.act({size: picture.size});
  await look_again();
}

const scenes = await sitting.lasting(async () => (await ask('/api/scenes')).json());
const chooser = by_id('scenes');
chooser.append(...scenes.map(({path, title}, i) => Object.assign(document.createElement('option'), {value: i, textContent: title || path})));
chooser.hidden = scenes.length < 2;
by_id('title').hidden = scenes.length > 1;
chooser.addEventListener('change', () => open(Number(chooser.value)));
// For those who measure this page.
window.photon_lane = {sitting, picture, version: 0};
await open(0);
sitting.watch((facts, blob) => picture.draw({...facts, sitting: sitting.id}, blob));
