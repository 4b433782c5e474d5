// The page for those who send parcels: it signs in with a cookie, changes a part of a parcel, and uploads a photo of it.
import { InvalidRequest, NotModified, Problem, Unreachable } from "./gen/faithful/web.js";
import { NoParcel, ParcelChanged, ParcelsClient, type Sent, parcelPatchTools, parcelTools } from "./gen/skerry/parcels/index.js";

// The server is the page's own: the browser keeps the cookie, and sends it with every call.
const client = new ParcelsClient(location.origin, { encoding: "json" });

let sent: Sent | undefined;

function element<T extends HTMLElement>(id: string, kind: new () => T): T {
  const found = document.getElementById(id);
  if (!(found instanceof kind)) {
    throw new Error(`the page has no ${id}`);
  }
  return found;
}

function fieldOf(form: HTMLFormElement, name: string): string {
  const value = new FormData(form).get(name);
  return typeof value === "string" ? value : "";
}

function tell(text: string): void {
  element("told", HTMLElement).textContent = text;
}

/** What somebody at the page can do about a failure. */
function advice(problem: unknown): string {
  if (problem instanceof InvalidRequest) {
    return problem.violations.map(({ pointer, detail }) => `${pointer.slice(1)}: ${detail}`).join("; ");
  }
  if (problem instanceof ParcelChanged) {
    return "Somebody else has changed the parcel: look again.";
  }
  if (problem instanceof NoParcel) {
    return "There is no such parcel any more.";
  }
  if (problem instanceof Unreachable) {
    return "The line does not answer: try again later.";
  }
  return problem instanceof Problem && problem.status === 401 ? "Sign in first." : String(problem);
}

function show(parcel: Sent): void {
  sent = parcel;
  const { to, quay, grams, note } = parcel.parcel;
  element("shown", HTMLElement).textContent = `For ${to} at ${quay}: ${String(grams)} g${note === undefined ? "" : `, “${note}”`}.${parcel.at === undefined ? "" : ` It is at ${parcel.at}.`}`;
  const form = element("amend", HTMLFormElement);
  (form.elements.namedItem("grams") as HTMLInputElement).value = String(grams);
  (form.elements.namedItem("note") as HTMLInputElement).value = note ?? "";
  element("parcel", HTMLElement).hidden = false;
}

function onSubmit(id: string, act: (form: HTMLFormElement) => Promise<string>): void {
  const form = element(id, HTMLFormElement);
  form.addEventListener("submit", (event) => {
    event.preventDefault();
    act(form).then(tell, (problem: unknown) => {
      tell(advice(problem));
    });
  });
}

onSubmit("sign-in", async (form) => {
  const { name } = await client.signIn({ name: fieldOf(form, "name") });
  element("send", HTMLFormElement).hidden = false;
  form.hidden = true;
  return `Hello, ${name}.`;
});

onSubmit("send", async (form) => {
  const note = fieldOf(form, "note");
  const parcel = { to: fieldOf(form, "to"), quay: fieldOf(form, "quay"), grams: Number(fieldOf(form, "grams")), note: note === "" ? undefined : note };
  show(await client.send({ parcel }));
  form.hidden = true;
  return "The parcel is on its way.";
});

onSubmit("amend", async (form) => {
  if (sent === undefined) {
    return "Send a parcel first.";
  }
  // Only what differs travels, so that nobody undoes what another has changed meanwhile.
  const note = fieldOf(form, "note");
  const after = parcelTools.make({ ...sent.parcel, grams: Number(fieldOf(form, "grams")), note: note === "" ? undefined : note });
  show(await client.amend({ id: sent.id, known: sent.tag, changes: parcelPatchTools.between(sent.parcel, after) }));
  return "Changed.";
});

async function lookAgain(parcel: Sent): Promise<string> {
  try {
    show(await client.parcel({ id: parcel.id, known: parcel.tag }));
    return "There is news.";
  } catch (problem) {
    if (problem instanceof NotModified) {
      return "Nothing has changed.";
    }
    throw problem;
  }
}

async function upload(parcel: Sent, file: File): Promise<string> {
  await client.putPhoto({ id: parcel.id, photo: file });
  const photo = element("photo", HTMLImageElement);
  photo.src = `/parcels/${parcel.id}/photo?${String(Date.now())}`; // an image like any other: the cookie goes with it
  await photo.decode();
  photo.hidden = false;
  return `The photo has ${String(file.size)} bytes, and is ${String(photo.naturalWidth)} by ${String(photo.naturalHeight)}.`;
}

function whileThereIsOne(act: (parcel: Sent) => Promise<string>): void {
  if (sent !== undefined) {
    act(sent).then(tell, (problem: unknown) => {
      tell(advice(problem));
    });
  }
}

element("look", HTMLButtonElement).addEventListener("click", () => {
  whileThereIsOne(lookAgain);
});

element("file", HTMLInputElement).addEventListener("change", (event) => {
  const [file] = (event.currentTarget as HTMLInputElement).files ?? [];
  if (file !== undefined) {
    whileThereIsOne((parcel) => upload(parcel, file));
  }
});
