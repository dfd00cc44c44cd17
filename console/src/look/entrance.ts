// Entrances of tunnels, and whom a trial of one is about.
import type { EntranceTrial, Gate } from '../api'
import { visible } from './shape'

/** Entrances of gates, as a list to choose from. */
export const entrancesOf = (gates: Gate[]) =>
  gates.flatMap((g) => g.zones.filter((z) => z.entrance).map((z) => ({ title: `${z.name} (${g.name})`, value: { gate: g.name, entrance: z.name } })))

/** Whom a trial is about, in words. */
export const whom = (trial: EntranceTrial, t: (key: string, named?: Record<string, string>) => string) =>
  [trial.person && visible(trial.person), trial.from && t('present.outside', { address: trial.from })].filter(Boolean).join(', ') || t('entranceTrial.anybody')
