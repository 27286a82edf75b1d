import { api, type Schemas } from "./api";
import { currentWorkspace } from "./workspace.svelte";

/** The text of the model that a run was made of; empty: it cannot be read. */
export async function textOf(run: Pick<Schemas["Run"], "model" | "revision">): Promise<string> {
  const { data } = await api.GET("/api/v1/workspaces/{workspace}/models/{name}/revisions/{number}", {
    params: { path: { workspace: currentWorkspace(), name: run.model, number: run.revision } },
  });
  return data?.text ?? "";
}
