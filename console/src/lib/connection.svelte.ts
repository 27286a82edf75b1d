/** Whether the service can be reached, as the last request showed. */
class Connection {
  state = $state<"up" | "down" | "back">("up");
  /** How often what a page shows was to be asked for anew, since it was not answered. */
  renewals = $state(0);
  missed = false; // something was asked for and not answered
  resumes = false; // the page that is shown goes on by itself: a model that is edited keeps its undo
  #timer: ReturnType<typeof setInterval> | undefined;

  /** Notes that a request was not answered, and asks until one is. */
  lost() {
    if (this.state === "down") return;
    this.state = "down";
    clearInterval(this.#timer);
    this.#timer = setInterval(async () => {
      const up = await fetch("/healthz").then(
        (r) => r.ok,
        () => false,
      );
      if (up) this.found();
    }, 2000);
  }

  found() {
    clearInterval(this.#timer);
    if (this.state === "down") this.state = "back";
    if (this.missed && !this.resumes) this.renewals++;
    this.missed = false;
  }
}

export const connection = new Connection();

/** fetch that answers 503 where the service cannot be reached, instead of failing: every caller has words for an answer. */
export async function reaching(request: Request): Promise<Response> {
  try {
    return await fetch(request);
  } catch (e) {
    if (request.signal.aborted) throw e;
    connection.lost();
    if (request.method === "GET") connection.missed = true;
    return new Response(
      JSON.stringify({
        status: 503,
        title: "Service Unavailable",
        detail: "The service cannot be reached. It is tried again every two seconds.",
      }),
      { status: 503, headers: { "Content-Type": "application/problem+json" } },
    );
  }
}
