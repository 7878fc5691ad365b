// The way to the server: who asks, what is asked for, and what comes when it does not answer.

const token = location.hash.slice(1);

/** What the server said no to. */
export class Refused extends Error {
  constructor(status, message) {
    super(message);
    this.status = status;
  }
}

export async function ask(path, {method = 'GET', body, signal, keepalive} = {}) {
  const response = await fetch(path, {
    method,
    signal,
    keepalive,
    cache: 'no-store',
    headers: {Authorization: `Bearer ${token}`, ...(body === undefined ? {} : {'Content-Type': 'application/json'})},
    body: body === undefined ? undefined : JSON.stringify(body),
  });
  if (!response.ok) {
    let why = response.statusText;
    try {
      why = (await response.json()).error;
    } catch {
      // No words came with it.
    }
    throw new Refused(response.status, why);
  }
  return response;
}

const after = (ms) => new Promise((go) => setTimeout(go, ms));

/** One open page on the server. It is opened again when the server was started again. */
export class Sitting extends EventTarget {
  #id = null;
  #waiting = [];
  #sending = false;
  #opening = null;
  scene = 0;
  /** Acts that bring a new sitting to where this one was. */
  remembered = () => [];

  tell(name, detail) {
    this.dispatchEvent(new CustomEvent(name, {detail}));
  }

  async open(scene) {
    const before = this.#id;
    this.scene = scene;
    const {id} = await (await ask('/api/sittings', {method: 'POST', body: {scene}})).json();
    this.#id = id;
    if (before) ask(`/api/sittings/${before}`, {method: 'DELETE'}).catch(() => {});
    return id;
  }
  close() {
    if (this.#id) ask(`/api/sittings/${this.#id}`, {method: 'DELETE', keepalive: true}).catch(() => {});
    this.#id = null;
  }
  get is_quiet() {
    return this.#waiting.length === 0 && !this.#sending;
  }
  get is_open() {
    return this.#id !== null;
  }
  get id() {
    return this.#id;
  }
  at(path) {
    return `/api/sittings/${this.#id}/${path}`;
  }

  /** Does something with the server for as long as it takes to answer. */
  async lasting(work) {
    for (;;) {
      try {
        const result = await work();
        this.tell('there');
        return result;
      } catch (problem) {
        if (problem instanceof Refused && problem.status === 404) {
          await this.#come_back();
        } else if (problem instanceof Refused && problem.status !== 429) {
          if (problem.status === 401) {
            this.tell('gone', 'The server does not know this address: open the one that it printed.');
            await after(3000);
          } else {
            throw problem;
          }
        } else {
          this.tell('gone', 'The server does not answer. This page goes on when it is back.');
          await after(700);
        }
      }
    }
  }
  #come_back() {
    this.#opening ??= (async () => {
      try {
        const acts = this.remembered();
        this.#id = null;
        await this.open(this.scene);
        this.tell('again');
        if (acts.length) await ask(this.at('acts'), {method: 'POST', body: acts});
      } catch {
        await after(700);
      } finally {
        this.#opening = null;
      }
    })();
    return this.#opening;
  }

  /** Asks for acts; those that come while some are on their way go together with the next ones. */
  act(...acts) {
    for (const act of acts) {
      // Of motions in a row the server needs their sum alone.
      const last = this.#waiting.at(-1);
      if (last && act.look && last.look) {
        last.look = [last.look[0] + act.look[0], last.look[1] + act.look[1]];
      } else if (last && act.pan && last.pan) {
        last.pan = [last.pan[0] + act.pan[0], last.pan[1] + act.pan[1]];
      } else if (last && act.set && last.set && act.set[0] === last.set[0]) {
        last.set = act.set;
      } else {
        this.#waiting.push(structuredClone(act));
      }
    }
    this.#send();
  }
  async #send() {
    if (this.#sending || !this.#id) return;
    this.#sending = true;
    while (this.#waiting.length) {
      const acts = this.#waiting.splice(0, 500);
      try {
        const answer = await this.lasting(async () =>
            (await ask(this.at('acts'), {method: 'POST', body: acts})).json());
        this.tell('acted', answer);
      } catch (problem) {
        this.tell('acted', {refused: [problem.message]});
      }
    }
    this.#sending = false;
  }

  /** Pictures as they come: one is asked for while the one before is drawn, and no more. */
  async watch(draw) {
    let after_number = 0;
    let id = null;
    for (;;) {
      if (!this.#id) {
        await after(50);
        continue;
      }
      if (id !== this.#id) {
        id = this.#id;
        after_number = 0;
      }
      const got = await this.lasting(async () => {
        const response = await ask(`/api/sittings/${id === this.#id ? id : this.#id}/picture?after=${after_number}&wait=1`);
        if (response.status === 204) return {progress: JSON.parse(response.headers.get('Live-Progress'))};
        const bytes = await response.arrayBuffer();
        const text = new TextDecoder();
        const length = Number(text.decode(bytes.slice(0, 8)));
        const facts = JSON.parse(text.decode(bytes.slice(8, 8 + length)));
        return {facts, blob: new Blob([bytes.slice(8 + length)], {type: response.headers.get('Live-Type')})};
      });
      if (id !== this.#id) continue;
      if (got.progress) {
        this.tell('progress', got.progress);
      } else {
        after_number = got.facts.number;
        draw(got.facts, got.blob);
      }
    }
  }
}
