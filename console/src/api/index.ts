// The management API, typed from its own OpenAPI document.
import createClient from 'openapi-fetch'
import { ref } from 'vue'
import type { components, paths } from './schema'

export type Block = components['schemas']['Block']
export type FoundPeople = components['schemas']['FoundPeople']
export type TakenAway = components['schemas']['TakenAway']
// Words of the API: a table over one of them does not compile where a word is missing.
export type Outcome = components['schemas']['Outcome']
export type StepBearing = components['schemas']['StepBearing']
export type ChangeBearing = components['schemas']['ChangeBearing']
export type Harm = components['schemas']['Harm']
export type CheckVerdict = components['schemas']['CheckVerdict']
export type FareVerdict = components['schemas']['FareVerdict']
export type Effect = components['schemas']['Effect']
export type RealmAnswer = components['schemas']['RealmAnswer']
export type ServiceFound = components['schemas']['ServiceFound']
export type AccountState = components['schemas']['AccountState']
export type ProviderKind = components['schemas']['ProviderKind']

export type Crossing = components['schemas']['Crossing']
export type CrossingList = components['schemas']['CrossingList']
export type Step = components['schemas']['Step']
export type Gate = components['schemas']['Gate']
export type Provider = components['schemas']['Provider']
export type ProviderPart = components['schemas']['ProviderPart']
export type Route = components['schemas']['Route']
export type ZoneProposal = components['schemas']['ZoneProposal']
export type ReachRequest = components['schemas']['ReachRequest']
export type ReachAnswer = components['schemas']['ReachAnswer']
export type RouteTried = components['schemas']['RouteTried']
export type SamlParty = components['schemas']['SamlParty']
export type Handover = components['schemas']['Handover']
export type TrialAnswer = components['schemas']['TrialAnswer']
export type EntranceTrial = components['schemas']['EntranceTrial']
export type TriedStage = components['schemas']['TriedStage']
export type TrialSignIn = components['schemas']['TrialSignIn']
export type Directory = components['schemas']['Directory']
export type Factors = components['schemas']['Factors']
export type PersonRoles = components['schemas']['PersonRoles']
export type PersonalToken = components['schemas']['PersonalToken']
export type Session = components['schemas']['Session']
export type Presence = components['schemas']['Presence']
export type HadAddress = components['schemas']['HadAddress']
export type Quarter = components['schemas']['Quarter']
export type Me = components['schemas']['Me']
export type Act = components['schemas']['Act']
export type ActList = components['schemas']['ActList']
export type ActsCheck = components['schemas']['ActsCheck']
export type ApiToken = components['schemas']['ApiToken']
export type Affected = components['schemas']['Affected']
export type Comparison = components['schemas']['Comparison']
export type Draft = components['schemas']['Draft']
export type Edition = components['schemas']['Edition']
export type EditionLine = components['schemas']['EditionLine']
export type Finding = components['schemas']['Finding']
export type Rehearsal = components['schemas']['Rehearsal']
export type RingKey = components['schemas']['RingKey']
export type Secret = components['schemas']['Secret']
export type KerberosSeen = components['schemas']['KerberosSeen']
export type SurveyFinding = components['schemas']['SurveyFinding']
export type Survey = components['schemas']['Survey']
export type Source = components['schemas']['Source']
export type Problem = components['schemas']['Problem']

/** The language sentences are asked for in. */
export const language = ref<'en' | 'fr'>('en')

export const api = createClient<paths>({ baseUrl: '/api/v1' })
api.use({
  onRequest({ request }) {
    request.headers.set('accept-language', language.value)
    return request
  },
})

/** An answer that was no success, in words that say what to do next. */
export class ApiProblem extends Error {
  readonly status: number
  readonly title: string
  readonly findings: Finding[]
  readonly refuses: Affected[]
  /** The word that overrides a refusal. */
  readonly anyway?: string
  /** Where the emergency account signs in, if it is offered here. */
  readonly emergency?: string
  constructor(problem: Partial<Problem> | undefined, status: number) {
    super(problem?.detail ?? 'The service does not answer.')
    this.title = problem?.title ?? 'No answer'
    this.status = status
    this.findings = problem?.findings ?? []
    this.refuses = problem?.refuses ?? []
    this.anyway = problem?.anyway ?? undefined
    this.emergency = problem?.emergency ?? undefined
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** Whatever was thrown, as a problem: a fault of the console itself is told as one, and not as an answer of the service. */
export function problemOf(e: unknown): ApiProblem {
  if (e instanceof ApiProblem) return e
  const detail = e instanceof Error ? e.message : String(e)
  return new ApiProblem({ title: 'The console failed', detail }, -1)
}

/** The data of an answer, or a problem thrown. */
export async function got<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new ApiProblem(undefined, 0)
  }
  if (answer.response.status === 204) return undefined as T
  if (answer.data === undefined) throw new ApiProblem(answer.error as Partial<Problem>, answer.response.status)
  return answer.data
}

/** The same where there may be none: nothing for the answer 404, which is no problem then. */
export async function found<T>(call: Promise<Answer<T>>): Promise<T | undefined> {
  try {
    return await got(call)
  } catch (e) {
    if (problemOf(e).status === 404) return undefined
    throw e
  }
}
