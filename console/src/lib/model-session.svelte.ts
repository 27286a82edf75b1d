import { api, problems, sentence, type Board, type Finding, type Problem, type Schemas } from "./api";
import { plain } from "./code";
import { command } from "./command";
import { keepDraft, readDraft } from "./draft";
import { Places } from "./places.svelte";
import { currentWorkspace, visitor } from "./workspace.svelte";
import { changed } from "./changed";
import { freeName, patchAt } from "./written";

export type Remedy = Finding["remedies"][number];

/** A message at the top of the page. */
export interface Notice {
  kind: "error" | "success";
  title: string;
  subtitle: string;
  stays?: boolean; // until it is closed
}

/** What another user saved while this was edited. */
export interface Conflict {
  number: number;
  author: string;
  text: string;
  difference: Schemas["Difference"] | undefined;
  merged: Schemas["Merged"] | undefined; // none: one of the texts is not a valid document
}

/** Asks the service for a text that is edited. */
type Edit = (text: string) => Promise<{ data?: { text: string }; error?: unknown }>;

/**
 * A model while it is edited: its text, what the service says of it, and what is saved. Every edit goes through the
 * text, so that undo takes it back wherever it was made.
 */
export class ModelSession {
  text = $state("");
  saved = $state("");
  revision = $state(0);
  base = $state(0); // the revision that was edited
  ready = $state(false);
  checked = $state.raw<Schemas["Checked"] | undefined>();
  board = $state.raw<Board>({ nodes: [], links: [] });
  document = $state.raw<Record<string, unknown>>({});
  wrong = $state.raw<Problem[]>([]);
  notice = $state<Notice | undefined>();
  conflict = $state<Conflict | undefined>();
  viewers = $state.raw<string[]>([]); // who else looks at the model

  readonly findings = $derived<Finding[]>(this.checked?.check?.findings ?? []);
  readonly unsaved = $derived(this.text !== this.saved);
  /** Whether what another user saved says the same as this model: only comments or layout differ. */
  readonly alike = $derived.by(() => {
    const c = this.conflict?.difference?.changes;
    return (
      !!c &&
      [c.nodes_added, c.nodes_removed, c.links_added, c.links_removed, c.settings].every((l) => !l?.length) &&
      [c.nodes, c.links].every((m) => Object.keys(m ?? {}).length === 0)
    );
  });

  private asked = 0;
  private asking = false;
  private again = false; // the text has changed while it was asked about
  private timer: ReturnType<typeof setTimeout> | undefined;

  readonly places: Places; // where nodes were put by hand

  constructor(readonly name: string) {
    this.places = new Places(currentWorkspace(), name, visitor.edits, (why) => {
      this.notice = { kind: "error", title: "The places are not kept.", subtitle: why };
    });
  }

  private get path() {
    return { workspace: currentWorkspace(), name: this.name };
  }
  private get draftKey() {
    return `ironweir-draft-${currentWorkspace()}-${this.name}`;
  }

  /** Keeps what is not saved in the browser, so that it survives a reload and a browser that crashes. */
  keep() {
    if (!this.ready) return;
    keepDraft(this.draftKey, this.unsaved ? { revision: this.base, text: this.text } : undefined);
  }

  /**
   * Opens the latest revision, or what was not saved of it, and returns the model's scenarios. Where the text is
   * checked soon it is ready only then: the page is drawn once.
   */
  async load(): Promise<Schemas["Scenario"][]> {
    const opened = api
      .GET("/api/v1/workspaces/{workspace}/models/{name}", { params: { path: this.path } })
      .then((latest) => {
        this.open(latest);
        if (this.revision > 0) return Promise.race([this.check(), new Promise((soon) => setTimeout(soon, 250))]);
      });
    const [, list] = await Promise.all([
      opened,
      api.GET("/api/v1/workspaces/{workspace}/models/{name}/scenarios", { params: { path: this.path } }),
      this.places.load(),
    ]);
    this.ready = this.revision > 0;
    return list.data?.items ?? [];
  }
  private open(latest: { data?: Schemas["Revision"]; error?: unknown }) {
    if (!latest.data) {
      this.notice = { kind: "error", title: "The model was not opened.", subtitle: sentence(latest.error) };
      return;
    }
    this.text = this.saved = latest.data.text ?? "";
    this.base = this.revision = latest.data.number;
    const draft = readDraft(this.draftKey);
    if (draft && draft.text !== this.saved) this.takeDraft(draft.text, draft.revision);
  }
  private takeDraft(text: string, revision: number) {
    this.text = text;
    this.base = revision;
    const current = revision === this.revision;
    this.notice = {
      kind: current ? "success" : "error",
      stays: true,
      title: "What you had not saved is back.",
      subtitle: current
        ? "History shows how it differs from what is saved."
        : `It was written on revision ${revision}; the latest is ${this.revision}. Saving will show both.`,
    };
  }

  /** Asks about the text; once at a time, so that a large model is not asked about at every letter. */
  async check() {
    if (this.asking) {
      this.again = true;
      return;
    }
    this.asking = true;
    const turn = ++this.asked;
    const { data, error } = await api
      .POST("/api/v1/check", { body: { text: this.text } })
      .finally(() => (this.asking = false));
    if (this.again) {
      this.again = false;
      this.check();
    }
    if (turn !== this.asked) return; // a later edit has been asked about
    if (data) this.take(data);
    else {
      this.wrong = problems(error);
      if (this.wrong.length === 0) this.notice = { kind: "error", title: "Not checked.", subtitle: sentence(error) };
    }
  }
  private take(data: Schemas["Checked"]) {
    this.wrong = [];
    this.checked = data;
    this.board = data.board;
    this.document = data.document as Record<string, unknown>;
  }

  /** Puts a text in place of the present one, and has it checked once all that is done at once is done. */
  edit(next: string) {
    if (next === this.text) return;
    this.text = next;
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.check());
  }

  private changes: Promise<unknown> = Promise.resolve();

  /** Has the service edit the text once the edits before it are done; says why not. */
  private change(ask: Edit): Promise<string> {
    const done = this.changes.then(() => this.changeNow(ask));
    this.changes = done.catch(() => undefined);
    return done;
  }

  /** Has the service edit the text, and takes what comes out, unless it cannot be a model; says why not. */
  private async changeNow(ask: Edit): Promise<string> {
    const before = this.text; // as it was when it was asked for: what is typed meanwhile must not be lost
    const meanwhile = "The text has changed meanwhile; try again.";
    const why = (problem: unknown) =>
      problems(problem)
        .map((t) => t.message)
        .join(" ") || sentence(problem);
    const changed = await ask(before);
    if (!changed.data) return why(changed.error);
    if (this.text !== before) return meanwhile;
    const { data, error } = await api.POST("/api/v1/check", { body: { text: changed.data.text } });
    if (!data && this.wrong.length === 0) return why(error);
    if (this.text !== before) return meanwhile;
    clearTimeout(this.timer);
    this.asked++;
    this.text = changed.data.text;
    if (data) this.take(data);
    else this.wrong = problems(error);
    return "";
  }

  /** Changes the model by a JSON Merge Patch; says why not. */
  amend = (patch: Record<string, unknown>) =>
    this.change((text) => api.POST("/api/v1/apply", { body: { text, patch } }));
  /** Removes a node with the links to it; says why not. */
  remove = (node: string) => this.change((text) => api.POST("/api/v1/remove", { body: { text, node } }));
  /** Removes nodes as one change; says why not. */
  removeAll = (nodes: string[]) =>
    this.change(async (text) => {
      let answer: { data?: { text: string }; error?: unknown } = { data: { text } };
      for (const node of nodes) {
        if (answer.data) answer = await api.POST("/api/v1/remove", { body: { text: answer.data.text, node } });
      }
      return answer;
    });
  /** Renames a node wherever it is named; it stays where it was put. Says why not. */
  rename = async (from: string, to: string) => {
    const why = await this.change((text) => api.POST("/api/v1/rename", { body: { text, from, to } }));
    const place = this.places.all[from];
    if (!why && place) await this.places.put({ [from]: null, [to]: place });
    return why;
  };

  /** Removes a link by its id; says why not. */
  removeLink(id: string) {
    const at = id.indexOf(":");
    return this.amend(patchAt(["nodes", id.slice(0, at), "links", id.slice(at + 1)], null));
  }

  /** Draws a link from one node to another, and returns its id; says why not. */
  async connect(from: string, to: string): Promise<{ id: string; why: string }> {
    let called = to;
    const why = await this.change((text) => {
      const links = (this.document.nodes as Record<string, { links?: object }>)[from]?.links ?? {};
      called = freeName(to, Object.keys(links));
      const patch = patchAt(["nodes", from, "links", called], called === to ? {} : { to });
      return api.POST("/api/v1/apply", { body: { text, patch } });
    });
    return { id: `${from}:${called}`, why };
  }

  /** Adds a node, and a link to it from another where one is given; says why not. */
  add(kind: string, name: string, from = "") {
    // A schedule needs an interval.
    const node = kind === "schedule" ? { kind, every: "15m" } : kind === "workflow" ? { kind, do: [] } : { kind };
    return this.amend({ nodes: { [name]: node, ...(from ? { [from]: { links: { [name]: {} } } } : {}) } });
  }

  /** Writes remedies into the text, one after the other, and says whether it worked. */
  async apply(remedies: Remedy[]) {
    for (const remedy of remedies) {
      const why = await this.amend(remedy.patch);
      if (why) {
        this.notice = { kind: "error", title: `Not applied: ${plain(remedy.say)}.`, subtitle: why };
        return;
      }
    }
    this.notice = {
      kind: "success",
      title: remedies.length === 1 ? `Applied: ${remedies[0].say}.` : `${remedies.length} changes are applied.`,
      subtitle: "Undo in the text takes it back.",
    };
  }

  /** Puts an earlier revision's text into the editor; it is kept once it is saved. */
  restore(old: string, number: number) {
    this.edit(old);
    this.notice = {
      kind: "success",
      title: `Revision ${number} is in the editor.`,
      subtitle: "Save to keep it; undo in the text takes it back.",
    };
  }

  /** Saves the text as a revision, unless another user has saved meanwhile, which is shown. */
  async save(): Promise<boolean> {
    const now = this.text; // what is typed meanwhile is not saved yet
    const { data, error } = await api.POST("/api/v1/workspaces/{workspace}/models/{name}/revisions", {
      params: { path: this.path, header: { "If-Match": `"${this.base}"` } },
      body: { text: now },
    });
    if (error && "status" in error && error.status === 412) {
      await this.differ();
      return false;
    }
    if (error) {
      this.wrong = problems(error);
      this.notice = { kind: "error", title: "Not saved.", subtitle: sentence(error) };
      return false;
    }
    this.saved = now;
    this.base = this.revision = data.number;
    this.notice = { kind: "success", title: `Saved as revision ${this.revision}.`, subtitle: "" };
    return true;
  }

  /** Says that the model is looked at, and learns who else does, and what a colleague has saved. */
  async look() {
    if (!this.ready) return;
    const { data } = await api.POST("/api/v1/workspaces/{workspace}/models/{name}/viewing", {
      params: { path: this.path },
    });
    if (!data) return; // the page says by itself that the service cannot be reached
    this.viewers = data.viewers ?? [];
    await this.places.load(data.placed_at);
    if (data.revision > this.newest && data.revision > this.revision) await this.showSaved(data.revision);
  }
  private newest = 0; // of the revisions of colleagues that were shown

  /** Shows what a colleague has saved: in the editor, unless this model has changes of its own. */
  private async showSaved(number: number) {
    this.newest = number;
    const latest = await api.GET("/api/v1/workspaces/{workspace}/models/{name}", { params: { path: this.path } });
    if (!latest.data || latest.data.number <= this.revision) return; // it was saved here meanwhile
    const theirs = latest.data.text ?? "";
    const { data } = await api.POST("/api/v1/diff", { body: { before: this.saved, after: theirs } });
    const title = `${latest.data.author} has saved revision ${latest.data.number}.`;
    const what = data?.changes ? changed(data.changes) : "";
    if (this.unsaved) {
      this.notice = { kind: "success", stays: true, title, subtitle: `${what} Saving yours will show both.`.trim() };
      return;
    }
    this.base = this.revision = latest.data.number;
    this.saved = theirs;
    this.edit(theirs);
    this.notice = { kind: "success", stays: true, title, subtitle: `${what} It is in the editor.`.trim() };
  }

  /** Saves the model for what is kept or run of it. */
  before = async () => !this.unsaved || (await this.save());

  /** Shows what another user saved meanwhile. */
  private async differ() {
    const latest = await api.GET("/api/v1/workspaces/{workspace}/models/{name}", { params: { path: this.path } });
    if (!latest.data) {
      this.notice = { kind: "error", title: "Not saved.", subtitle: sentence(latest.error) };
      return;
    }
    const theirs = latest.data.text ?? "";
    const [{ data: difference }, { data: merged }] = await Promise.all([
      api.POST("/api/v1/diff", { body: { before: theirs, after: this.text } }),
      api.POST("/api/v1/merge", { body: { base: this.saved, mine: this.text, theirs } }),
    ]);
    this.conflict = { number: latest.data.number, author: latest.data.author, text: theirs, difference, merged };
  }

  /** Ends a conflict: puts both models together into the editor, saves this one on top, or takes the other one. */
  async settle(by: "merge" | "mine" | "theirs") {
    if (!this.conflict) return;
    const { number, author, text: theirs, merged } = this.conflict;
    this.conflict = undefined;
    this.base = this.revision = number;
    this.saved = theirs;
    if (by === "mine") await this.save();
    else if (by === "theirs") this.edit(theirs);
    else if (merged) {
      this.edit(merged.text);
      const title = `What you changed is written into revision ${number} of ${author}.`;
      this.notice = { kind: "success", stays: true, title, subtitle: "It is in the editor. Save to keep it." };
    }
  }

  /** Draws the model as a picture; says why not. */
  async picture(format: "svg" | "png"): Promise<{ file?: Blob; why: string }> {
    const args = ["model.yaml", "-format", format, "-out", "picture", "-findings"];
    const { file, err, error } = await command("draw", args, { "model.yaml": this.text });
    const made = file("picture");
    if (!made) return { why: error ? sentence(error) : err };
    return { file: new Blob([made], { type: format === "svg" ? "image/svg+xml" : "image/png" }), why: "" };
  }
}
