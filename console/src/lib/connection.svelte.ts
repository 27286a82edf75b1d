const [soonest, latest] = [1000, 15000]; // milliseconds to the next try, while the service cannot be reached

/** Whether the service can be reached, as the last request showed. */
class Connection {
  state = $state<"up" | "down" | "back">("up");
  /** How often what a page shows was to be asked for anew, since it was not answered. */
  renewals = $state(0);
  #missed = false; // something was asked for and not answered
  #resume: (() => void) | undefined;
  #timer: ReturnType<typeof setTimeout> | undefined;

  /** Notes that a request was not answered, whether or not a page waits for it, and asks until one is. */
  lost(waits = false) {
    this.#missed ||= waits;
    if (this.state === "down") return;
    this.state = "down";
    this.#ask(soonest);
  }

  /** Asks after a time, and again after twice as long until there is an answer. */
  #ask(after: number) {
    clearTimeout(this.#timer);
    this.#timer = setTimeout(async () => {
      const up = await fetch("/healthz").then(
        (r) => r.ok,
        () => false,
      );
      if (up) this.found();
      else this.#ask(Math.min(2 * after, latest));
    }, after);
  }

  found() {
    clearTimeout(this.#timer);
    if (this.state === "down") this.state = "back";
    if (this.#resume) this.#resume();
    else if (this.#missed) this.renewals++;
    this.#missed = false;
  }

  /** Notes what a page does when the service is back, instead of being drawn anew; returns what forgets it. */
  resumeBy(resume: () => void): () => void {
    this.#resume = resume;
    return () => (this.#resume = undefined);
  }
}

export const connection = new Connection();

/** fetch that answers 503 where the service cannot be reached, instead of failing: every caller has words for an answer. */
export async function reaching(request: Request): Promise<Response> {
  try {
    return await fetch(request);
  } catch (e) {
    if (request.signal.aborted) throw e;
    connection.lost(request.method === "GET");
    return new Response(
      JSON.stringify({
        status: 503,
        title: "Service Unavailable",
        detail: "The service cannot be reached. It is tried again by itself.",
      }),
      { status: 503, headers: { "Content-Type": "application/problem+json" } },
    );
  }
}
