import { api, ask, type Schemas } from "../api/client";

/** passkeysWork says whether this browser, at this address, can do passkeys: they are bound to a name, over a safe line. */
export const passkeysWork = () =>
  isSecureContext &&
  typeof PublicKeyCredential === "function" &&
  "parseCreationOptionsFromJSON" in PublicKeyCredential &&
  !/^[\d.]+$|:/.test(location.hostname);

/** said is what the browser did, in words where it did not. */
async function said(ask: Promise<Credential | null>): Promise<string> {
  try {
    const got = await ask;
    if (got instanceof PublicKeyCredential) return JSON.stringify(got.toJSON());
  } catch (e) {
    if (e instanceof DOMException && e.name === "InvalidStateError") throw new Error("This machine has a passkey of yours already.");
    if (!(e instanceof DOMException)) throw e;
  }
  throw new Error("The browser gave no passkey. Try again, or use your passphrase.");
}

export async function makePasskey(passphrase: string, name: string): Promise<Schemas["Passkey"]> {
  const begun = await ask(api.POST("/me/passkeys/begin", { body: { passphrase } }));
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(JSON.parse(begun.options));
  const answer = await said(navigator.credentials.create({ publicKey }));
  return ask(api.POST("/me/passkeys", { body: { id: begun.id, name, answer } }));
}

export async function signInByPasskey(): Promise<Schemas["SignIn"]> {
  const begun = await ask(api.POST("/sign-in/passkey/begin"));
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(JSON.parse(begun.options));
  const answer = await said(navigator.credentials.get({ publicKey }));
  return ask(api.POST("/sign-in/passkey", { body: { id: begun.id, answer, from: "the console", console: true } }));
}
