import { api } from "./api";

const bytesOf = (base64: string) => Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
const base64Of = (text: string) =>
  btoa(Array.from(new TextEncoder().encode(text), (b) => String.fromCharCode(b)).join(""));
const textOf = (base64 = "") => new TextDecoder().decode(bytesOf(base64));

/** Has the service run a command of the command line on some files, given as text; error: it was not run. */
export async function command(
  name: "explain" | "draw" | "sensitivity",
  args: string[],
  files: Record<string, string> = {},
) {
  const { data, error } = await api.POST("/api/v1/commands/{command}", {
    params: { path: { command: name } },
    body: { args, files: Object.fromEntries(Object.entries(files).map(([file, text]) => [file, base64Of(text)])) },
  });
  return {
    out: textOf(data?.out),
    err: textOf(data?.err),
    file: (file: string) => (data?.files?.[file] ? bytesOf(data.files[file]) : undefined),
    error,
  };
}
