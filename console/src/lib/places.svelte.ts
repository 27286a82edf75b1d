import { api, sentence } from "./api";
import type { Place } from "./layout";

/** Places by node; null: where the layout puts it. */
export type PlaceChanges = Record<string, Place | null>;

/** A move that can be taken back as long as the text of the model is as it was then. */
interface Move {
  back: PlaceChanges;
  again: PlaceChanges;
  text: string;
}

/** Where nodes of a model were put by hand: the same for everybody who looks at it. */
export class Places {
  all = $state.raw<Record<string, Place>>({});
  private placedAt: string | null = null; // as it was read last
  private puts = 0; // how often nodes were put here
  private writing = 0; // puts that the service has not answered
  private done: Move[] = []; // the latest last
  private undone: Move[] = [];

  /** What a viewer moves, moves for them alone. */
  constructor(
    private readonly workspace: string,
    private readonly model: string,
    private readonly edits: boolean,
    private readonly fail: (why: string) => void = () => {},
  ) {}

  private get path() {
    return { params: { path: { workspace: this.workspace, name: this.model } } };
  }

  /**
   * Reads the places; with when a node was put last, only if that is news. An answer that may not know what was
   * put here meanwhile is dropped: the next load reads again.
   */
  async load(placedAt?: string | null) {
    if (placedAt !== undefined && placedAt === this.placedAt) return;
    const [puts, writing] = [this.puts, this.writing];
    const { data } = await api.GET("/api/v1/workspaces/{workspace}/models/{name}/places", this.path);
    if (!data || writing || puts !== this.puts) return;
    if (placedAt !== undefined) this.placedAt = placedAt;
    this.all = data.places as Record<string, Place>;
  }

  /** Puts nodes, as a move that can be taken back while the model has this text. */
  async move(again: PlaceChanges, text: string) {
    const back = Object.fromEntries(Object.keys(again).map((name) => [name, this.all[name] ?? null]));
    this.done.push({ back, again, text });
    this.undone = [];
    await this.put(again);
  }

  /** Takes the last move back, and says whether there was one since the text changed. */
  undo = (text: string) => this.step(this.done, this.undone, text, (m) => m.back);
  /** Makes the move again that was taken back last, and says whether there was one. */
  redo = (text: string) => this.step(this.undone, this.done, text, (m) => m.again);

  private step(from: Move[], to: Move[], text: string, changes: (m: Move) => PlaceChanges): boolean {
    if (from.at(-1)?.text !== text) return false;
    const move = from.pop()!;
    to.push(move);
    this.put(changes(move));
    return true;
  }

  /** Puts nodes. */
  async put(changes: PlaceChanges) {
    const next = { ...this.all };
    for (const [name, place] of Object.entries(changes)) {
      if (place) next[name] = place;
      else delete next[name];
    }
    this.all = next;
    if (!this.edits) return;
    this.puts++;
    this.writing++;
    const all = Object.entries(changes);
    const { error } = await api.PATCH("/api/v1/workspaces/{workspace}/models/{name}/places", {
      ...this.path,
      body: {
        places: Object.fromEntries(all.flatMap(([name, place]) => (place ? [[name, place]] : []))),
        release: all.filter(([, place]) => !place).map(([name]) => name),
      },
    });
    this.writing--;
    if (error) this.fail(sentence(error));
  }

  /** Gives all nodes the places that the layout chooses, as one move. */
  tidy = (text: string) => this.move(Object.fromEntries(Object.keys(this.all).map((name) => [name, null])), text);
}
