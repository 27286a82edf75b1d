const key = "ironweir-motion";

/** Whether messages are seen to move. Never where the system asks for less motion; kept in this browser. */
class Motion {
  private wanted = $state(localStorage.getItem(key) !== "off");
  readonly reduced = matchMedia("(prefers-reduced-motion: reduce)").matches;

  get on() {
    return this.wanted && !this.reduced;
  }

  toggle = () => {
    this.wanted = !this.wanted;
    localStorage.setItem(key, this.wanted ? "on" : "off");
  };
}

export const motion = new Motion();
