import { api } from "./api";

/** An example of what comes to a node, as fields of a form; undefined: there is none. */
export async function sampleOf(
  text: string,
  node: string,
): Promise<{ key: string; kind: string; data: string } | undefined> {
  const { data: event } = await api.POST("/api/v1/sample", { body: { text, node } });
  return (
    event && {
      key: String(event["subject"] ?? ""),
      kind: String(event["type"] ?? "message"),
      data: JSON.stringify(event["data"] ?? {}, null, 1),
    }
  );
}

/** Reads a payload that was typed; throws a sentence that says what is wrong with it. */
export function payloadOf(data: string): unknown {
  try {
    return data.trim() === "" ? undefined : JSON.parse(data);
  } catch (e) {
    throw new Error(`The payload is not JSON: ${(e as Error).message}`, { cause: e });
  }
}
