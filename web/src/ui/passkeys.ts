// Passkeys: what the browser asks a device for.
import { ApiError } from "@/api/client";

/** Whether this browser knows passkeys at this address; they are bound to a name and never to a number. */
export const passkeysHere = () => typeof window.PublicKeyCredential?.parseCreationOptionsFromJSON === "function" && !/^[\d.]+$|^\[/.test(window.location.hostname);

/** Makes a passkey in a device, and gives what the server checks. */
export async function makePasskey(options: string): Promise<string> {
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(JSON.parse(options) as PublicKeyCredentialCreationOptionsJSON);
  return answerOf(() => navigator.credentials.create({ publicKey }));
}

/** Has a device sign with its passkey. */
export async function askPasskey(options: string): Promise<string> {
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(JSON.parse(options) as PublicKeyCredentialRequestOptionsJSON);
  return answerOf(() => navigator.credentials.get({ publicKey }));
}

async function answerOf(ask: () => Promise<Credential | null>): Promise<string> {
  let made: Credential | null = null;
  try {
    made = await ask();
  } catch {
    // The browser does not say whether there is none, or somebody said no.
  }
  if (made) return JSON.stringify((made as PublicKeyCredential).toJSON());
  throw new ApiError({ type: "about:blank", title: "no-passkey", status: 0, code: "no-passkey", detail: "The device gave no passkey.", remedy: "Try again, or use your password." });
}
