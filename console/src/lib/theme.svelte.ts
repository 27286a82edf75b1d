/** The theme of the console, kept between visits; at first what the system prefers. */
function start() {
  const kept = localStorage.getItem("ironweir-theme");
  return kept ? kept === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
}

class Theme {
  dark = $state(start());

  constructor() {
    this.apply();
  }

  toggle = () => {
    this.dark = !this.dark;
    localStorage.setItem("ironweir-theme", this.dark ? "dark" : "light");
    this.apply();
  };

  private apply() {
    document.documentElement.setAttribute("theme", this.dark ? "g100" : "white");
    document.documentElement.style.colorScheme = this.dark ? "dark" : "light";
  }
}

export const theme = new Theme();
