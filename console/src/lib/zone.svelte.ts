const key = "ironweir-zone";
const own = () => Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";

/** A time in a zone, in the reader's locale. */
export const formatIn = (zone: string, at: number | Date, options: Intl.DateTimeFormatOptions): string =>
  new Intl.DateTimeFormat(undefined, { timeZone: zone, ...options }).format(at);

/** The zone in which times are shown, kept between visits; at first the reader's own. */
class Zone {
  name = $state(globalThis.localStorage?.getItem(key) ?? own());

  choose(name: string) {
    this.name = name || own();
    localStorage.setItem(key, this.name);
  }

  /** A time in that zone, in the reader's locale. */
  format(at: number | Date, options: Intl.DateTimeFormatOptions): string {
    return formatIn(this.name, at, options);
  }

  /** How the zone is called at an instant. */
  shortAt(at: number): string {
    return (
      new Intl.DateTimeFormat(undefined, { timeZone: this.name, timeZoneName: "short" })
        .formatToParts(at)
        .find((p) => p.type === "timeZoneName")?.value ?? this.name
    );
  }

  /** All zones that can be chosen. */
  get all(): string[] {
    return ["UTC", ...Intl.supportedValuesOf("timeZone").filter((z) => z !== "UTC")];
  }
}

export const zone = new Zone();
