const key = "ironweir-letters";

/**
 * Whether single letters are shortcuts. They can be switched off, for people who speak what they write (WCAG 2.1.4);
 * kept in this browser.
 */
class Letters {
  on = $state(localStorage.getItem(key) !== "off");

  toggle = () => {
    this.on = !this.on;
    localStorage.setItem(key, this.on ? "on" : "off");
  };
}

export const letters = new Letters();
