// What an engineer asks of reach, from what stands in the form.
import type { ReachRequest } from '../api'

/** The fields of the form. */
export interface ReachForm {
  to: string
  gate: string
  /** The way in; empty where nobody is signed in on the machine. */
  provider: string
  /** Somebody who came before, by the provider's identifier. */
  person: string
  /** An address or a hardware address: whoever is on with it; empty unless a machine is asked for. */
  machine?: string
  /** Groups of somebody described by hand, with commas between. */
  groups: string
  /** The entrance by whose tunnel they would come; empty for none. */
  entrance?: string
  /** What their client would say of itself; empty where it says nothing. */
  platform?: string
  version?: string
  /** Whether it brings the person's own certificate. */
  profile?: boolean
  /** A moment of the engineer's own clock, as the browser writes it; empty for now. */
  at: string
  draft: boolean
}

/** In the place of a way in: whoever is on with a machine. No way in may have such a name. */
export const MACHINE = '*machine'

const listed = (text: string) => text.split(',').map((one) => one.trim()).filter((one) => one)

/** The request. Somebody described by hand is taken to have signed in as the way in asks. */
export function described(form: ReachForm): ReachRequest {
  const source = { draft: form.draft }
  const ask = { to: form.to.trim(), gate: form.gate || null, source }
  if (form.provider === MACHINE) {
    return { ...ask, person: null, machine: form.machine?.trim() ?? '', at: form.at ? new Date(form.at).toISOString() : null }
  }
  if (!form.provider) return { ...ask, person: null }
  const known = form.person.trim()
  const at = form.at ? new Date(form.at).toISOString() : null
  const whom = known ? { subject: known } : { groups: listed(form.groups) }
  const said = (text?: string) => text?.trim() || undefined
  const by = said(form.entrance)
  const tunnel = by ? { tunnel: { entrance: by, platform: said(form.platform), version: said(form.version), profile: form.profile ?? false } } : {}
  return { ...ask, person: { provider: form.provider, source, at, ...whom, ...tunnel } }
}
