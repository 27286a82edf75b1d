import { describe, expect, it, vi } from "vitest";
import type { MovingView } from "./moving-board";

vi.mock("elkjs/lib/elk-worker.min.js?worker", () => ({ default: class {} }));
vi.mock("elkjs/lib/elk-api.js", () => ({ default: class {} }));

const { drawnFor } = await import("./moving-board");

const shown: MovingView = { x: 10, y: 20, zoom: 0.5, width: 800, height: 400, far: false };

describe("the view that is drawn for one that is shown", () => {
  const drawn = drawnFor(shown);

  it("has room around it, half of what is shown on each side", () => {
    expect(drawn).toEqual({ x: 410, y: 220, zoom: 0.5, width: 1600, height: 800, far: false });
  });

  it("serves while what is shown lies within it", () => {
    for (const [x, y] of [
      [10, 20],
      [-390, 20],
      [410, 220],
      [10, -180],
    ])
      expect(drawnFor({ ...shown, x, y }, drawn)).toBe(drawn);
  });

  it("is another beyond it, and at another zoom", () => {
    for (const other of [
      { ...shown, x: -391 },
      { ...shown, y: 221 },
      { ...shown, zoom: 0.51 },
      { ...shown, far: true },
    ])
      expect(drawnFor(other, drawn)).toEqual({
        ...other,
        x: other.x + 400,
        y: other.y + 200,
        width: 1600,
        height: 800,
      });
  });
});
