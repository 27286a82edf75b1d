/** The demo model over which a first visitor is shown what the console does. */
export const demoModel = "kittiwake-draft";

const key = "ironweir-first-visit";
const last = 4;

/** How far a first visitor is: at step 1, 2 or 3; 4: has done all three; 5: has left, and is not asked again. */
class FirstVisit {
  step = $state(Number(globalThis.localStorage?.getItem(key) ?? 1));

  /** Goes on to the next step, where this one is the present. */
  did(step: number) {
    if (step === this.step) this.#to(step + 1);
  }

  leave() {
    this.#to(last + 1);
  }

  get open() {
    return this.step <= last;
  }

  #to(step: number) {
    this.step = step;
    localStorage.setItem(key, String(step));
  }
}

export const firstVisit = new FirstVisit();
