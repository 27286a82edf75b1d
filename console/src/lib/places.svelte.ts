import { api, sentence } from "./api";
import type { Place } from "./layout";

/** Where nodes of a model were put by hand: the same for everybody who looks at it. */
export class Places {
  all = $state.raw<Record<string, Place>>({});
  private placedAt: string | null = null; // as it was read last

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
  private async read() {
    const { data } = await api.GET("/api/v1/workspaces/{workspace}/models/{name}/places", this.path);
    if (data) this.all = data.places as Record<string, Place>;
  }

  /** Reads the places; with when a node was put last, only if that is news. */
  async load(placedAt?: string | null) {
    if (placedAt !== undefined && placedAt === this.placedAt) return;
    if (placedAt !== undefined) this.placedAt = placedAt;
    await this.read();
  }

  /** Puts nodes; null: where the layout puts them. */
  async put(changes: Record<string, Place | null>) {
    const next = { ...this.all };
    for (const [name, place] of Object.entries(changes)) {
      if (place) next[name] = place;
      else delete next[name];
    }
    this.all = next;
    if (!this.edits) return;
    const all = Object.entries(changes);
    const { error } = await api.PATCH("/api/v1/workspaces/{workspace}/models/{name}/places", {
      ...this.path,
      body: {
        places: Object.fromEntries(all.flatMap(([name, place]) => (place ? [[name, place]] : []))),
        release: all.filter(([, place]) => !place).map(([name]) => name),
      },
    });
    if (error) this.fail(sentence(error));
  }

  /** Gives all nodes the places that the layout chooses. */
  async tidy() {
    this.all = {};
    if (!this.edits) return;
    const { error } = await api.DELETE("/api/v1/workspaces/{workspace}/models/{name}/places", this.path);
    if (error) this.fail(sentence(error));
  }
}
