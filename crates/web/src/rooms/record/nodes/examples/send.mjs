// Sends readings as SenML, and again until they are on the disk. EBREL is the server, NODE the node's number, KEY its key.
const { EBREL, NODE, KEY } = process.env;
const records = [
  { bn: "field:", bu: "Cel", bt: Math.floor(Date.now() / 1000) - 60 },
  { n: "A3/soil_temperature", v: 12.5 },
];
for (let wait = 1; ; wait = Math.min(wait * 2, 600)) {
  const answer = await fetch(`${EBREL}/api/v1/nodes/${NODE}/readings`, {
    method: "POST",
    headers: { Authorization: `Bearer ${KEY}`, "Content-Type": "application/senml+json" },
    body: JSON.stringify(records),
  }).catch(() => null);
  if (answer?.ok) {
    console.log(await answer.text());
    break;
  }
  // A problem of the message itself does not go away by waiting.
  if (answer && answer.status < 500 && answer.status !== 429) throw new Error((await answer.json()).detail);
  await new Promise((next) => setTimeout(next, wait * 1000));
}
