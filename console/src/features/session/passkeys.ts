/** What the browser does for passkeys: JSON of the service in, JSON for the service out (Web Authentication, §5.1). */

type Options = Record<string, unknown>;

/** Passkeys belong to one address of the console. */
export const passkeysWorkHere = (origin: string) =>
  origin !== '' && origin === window.location.origin && 'PublicKeyCredential' in window;

/** Make a passkey. Rejects when the person cancels. */
export async function makePasskey(options: Options): Promise<Options> {
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
    options as unknown as PublicKeyCredentialCreationOptionsJSON,
  );
  return asJson(await navigator.credentials.create({publicKey}));
}

/** Sign with a passkey that the person chooses. */
export async function signWithPasskey(options: Options): Promise<Options> {
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(
    options as unknown as PublicKeyCredentialRequestOptionsJSON,
  );
  return asJson(await navigator.credentials.get({publicKey}));
}

function asJson(credential: Credential | null): Options {
  if (!(credential instanceof PublicKeyCredential)) throw new Error('The browser returned no passkey.');
  return credential.toJSON() as Options;
}
