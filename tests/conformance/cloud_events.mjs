// Sends an event by the official JavaScript SDK: node cloud_events.mjs URL AUTHORIZATION MODE
import { CloudEvent, emitterFor, HTTP } from "cloudevents";

const [url, authorization, mode] = process.argv.slice(2);
const emit = emitterFor(
  async ({ headers, body }) => {
    const answer = await fetch(url, { method: "POST", headers: { ...headers, authorization }, body });
    return { status: answer.status, answer: await answer.json() };
  },
  { binding: HTTP, mode },
);
const event = new CloudEvent({
  id: "1",
  source: "https://ferry.example/phone-1",
  type: "example.ferry.screen_view",
  time: "2026-05-04T10:00:01Z",
  subject: "ann ü",
  data: { screen: "Board" },
});
console.log(JSON.stringify(await emit(event)));
