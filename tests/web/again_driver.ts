// Answers by their status, one after the other; 0 is none.
import { untilAnswered } from "@/api/again";

export async function sends(statuses: number[]) {
  const waits: number[] = [];
  let sent = 0;
  const send = () => {
    const status = statuses[sent++];
    return status ? Promise.resolve(new Response(null, { status })) : Promise.reject(new TypeError("lost"));
  };
  const wait = (ms: number) => Promise.resolve(void waits.push(ms));
  const answer = await untilAnswered(send, wait).then((one) => one.status, String);
  return { answer, sent, waits };
}
