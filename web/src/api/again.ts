const MOST_TRIES = 6;
const FIRST_PAUSE_MS = 1000;
const AWAY = 503;

const pause = (ms: number) => new Promise<void>((done) => setTimeout(done, ms));

/** Sends a request until an answer comes, for half a minute: whoever waits for it should not have to press again on a bad
 * line. Only for what its Idempotency-Key makes count once: an answer that was lost on its way may be that it was done. */
export async function untilAnswered(send: () => Promise<Response>, wait: (ms: number) => Promise<void> = pause): Promise<Response> {
  for (let tries = 1; ; tries++) {
    const last = tries === MOST_TRIES;
    try {
      const answer = await send();
      if (answer.status !== AWAY || last) return answer;
    } catch (lost) {
      if (last) throw lost;
    }
    await wait(FIRST_PAUSE_MS * 2 ** (tries - 1));
  }
}
