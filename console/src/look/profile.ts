// A key of a machine, made in this browser, and the file that a client takes.

const pem = (kind: string, buffer: ArrayBuffer) => {
  const text = btoa(String.fromCharCode(...new Uint8Array(buffer)))
  return `-----BEGIN ${kind}-----\n${(text.match(/.{1,64}/g) ?? []).join('\n')}\n-----END ${kind}-----\n`
}

/** A new key on P-256: its public half for the service, and its private half, both in PEM. */
export async function newKey(): Promise<{ open: string; own: string }> {
  const pair = await crypto.subtle.generateKey({ name: 'ECDSA', namedCurve: 'P-256' }, true, ['sign', 'verify'])
  const [open, own] = await Promise.all([crypto.subtle.exportKey('spki', pair.publicKey), crypto.subtle.exportKey('pkcs8', pair.privateKey)])
  return { open: pem('PUBLIC KEY', open), own: pem('PRIVATE KEY', own) }
}

/** The whole configuration of a client. */
export const wholeProfile = (configuration: string, key: string) => `${configuration}<key>\n${key}</key>\n`

/** A file name of a machine's name: letters, digits and dashes, whatever the machine is called. */
export const profileFile = (device: string) => `${device.normalize('NFKD').replace(/\p{M}/gu, '').replace(/[^A-Za-z0-9]+/g, '-').replace(/^-+|-+$/g, '').toLowerCase() || 'profile'}.ovpn`
