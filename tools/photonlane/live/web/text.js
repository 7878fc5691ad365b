// The scene's text: edited, taken, and what is wrong with it.

import {ask} from './link.js';

const by_id = (id) => document.getElementById(id);

export class Text {
  constructor(sitting) {
    this.sitting = sitting;
    this.version = null;
    this.editor = CodeMirror(by_id('editor'), {
      mode: 'yaml', lineNumbers: true, lineWrapping: true, tabSize: 2, indentWithTabs: false,
      extraKeys: {
        'Ctrl-S': () => this.take(), 'Cmd-S': () => this.take(),
        Tab: (editor) => editor.execCommand('insertSoftTab'),
        // The way out for those who have no mouse.
        Esc: () => by_id('save').focus(),
      },
    });
    this.editor.getInputField().setAttribute('aria-label', 'Text of the scene; Escape leaves it');
    by_id('save').addEventListener('click', () => this.take());
    by_id('tab-text').addEventListener('shown.bs.tab', () => this.editor.refresh());
    this.editor.on('change', (_, change) => {
      if (change.origin !== 'setValue') by_id('saved').textContent = 'changed here';
    });
  }
  get edited() {
    return this.text !== undefined && this.editor.getValue() !== this.text;
  }

  async read() {
    const told = await (await ask(this.sitting.at('text'))).json();
    this.version = told.version;
    if (told.text !== this.text) {
      if (this.edited) {
        by_id('saved').textContent = 'the file was changed by somebody else; what is here is kept';
      } else {
        const place = this.editor.getScrollInfo();
        this.editor.setValue(told.text);
        this.editor.scrollTo(place.left, place.top);
        by_id('saved').textContent = '';
      }
      this.text = told.text;
    }
  }

  /** What a state says of the text. */
  async follow(state) {
    if (state.text !== this.version) await this.read();
    this.editor.eachLine((line) => this.editor.removeLineClass(line, 'background', 'wrong-line'));
    const box = by_id('trouble');
    box.hidden = !state.trouble;
    if (!state.trouble) return;
    box.textContent = state.trouble.message;
    if (state.trouble.line > 0) {
      this.editor.addLineClass(state.trouble.line - 1, 'background', 'wrong-line');
    }
  }

  async take() {
    const text = this.editor.getValue();
    try {
      const told = await (await ask(this.sitting.at('text'), {method: 'PUT', body: {text, version: this.version}})).json();
      this.text = text;
      this.version = told.version;
      by_id('saved').textContent = told.trouble ? 'the last good picture stays' :
          told.written ? 'written to the file' : 'taken for this page; the file stays as it is';
      if (told.trouble?.line > 0) {
        this.editor.setCursor(told.trouble.line - 1, Math.max(0, told.trouble.column - 1));
        this.editor.scrollIntoView(null, 80);
      }
    } catch (problem) {
      by_id('saved').textContent = problem.message;
    }
  }
}
