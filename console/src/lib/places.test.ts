import { beforeEach, expect, test, vi } from "vitest";

const answers = vi.hoisted(() => ({ get: vi.fn(), patch: vi.fn() }));
vi.mock("./api", () => ({ api: { GET: answers.get, PATCH: answers.patch }, sentence: () => "not put" }));
const { Places } = await import("./places.svelte");

const [here, there] = [
  { x: 1, y: 2 },
  { x: 30, y: 40 },
];
const read = (places: object) => ({ data: { places } });
/** An answer of the service that comes when the test says so. */
function later<T>() {
  let answer!: (value: T) => void;
  const promise = new Promise<T>((resolve) => (answer = resolve));
  return { promise, answer };
}
beforeEach(() => {
  answers.get.mockReset();
  answers.patch.mockReset().mockResolvedValue({});
});

test("an answer from before a node was put does not move it back", async () => {
  const places = new Places("main", "slip", true);
  const old = later();
  answers.get.mockReturnValueOnce(old.promise);
  const loading = places.load("09:00");
  await places.put({ lines: there });
  old.answer(read({ desk: here }));
  await loading;
  expect(places.all).toEqual({ lines: there });

  answers.get.mockResolvedValueOnce(read({ desk: here, lines: there }));
  await places.load("09:00");
  expect(places.all, "the next load reads again").toEqual({ desk: here, lines: there });
  await places.load("09:00");
  expect(answers.get, "nothing is news").toHaveBeenCalledTimes(2);
});

test("nor does one that was asked for while the service had not answered the put", async () => {
  const places = new Places("main", "slip", true);
  const put = later();
  answers.patch.mockReturnValueOnce(put.promise);
  const putting = places.put({ lines: there });
  answers.get.mockResolvedValueOnce(read({}));
  await places.load("09:00");
  put.answer({});
  await putting;
  expect(places.all).toEqual({ lines: there });
});

test("what a viewer moves, the service does not keep", async () => {
  const places = new Places("main", "slip", false);
  await places.put({ lines: there });
  expect(places.all).toEqual({ lines: there });
  expect(answers.patch).not.toHaveBeenCalled();
});

test("a move is taken back and made again while the model has the same text", async () => {
  const fail = vi.fn();
  const places = new Places("main", "slip", true, fail);
  await places.move({ lines: there }, "text");
  expect(places.undo("another text")).toBe(false);
  expect(places.undo("text")).toBe(true);
  expect(places.all).toEqual({});
  answers.patch.mockResolvedValueOnce({ error: {} });
  expect(places.redo("text")).toBe(true);
  expect(places.all).toEqual({ lines: there });
  await vi.waitFor(() => expect(fail).toHaveBeenCalledWith("not put"));
});
