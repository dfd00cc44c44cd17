// The management API, typed from its own OpenAPI document.
import createClient from 'openapi-fetch'
import { ref } from 'vue'
import type { components, paths } from './schema'

export type Crossing = components['schemas']['Crossing']
export type CrossingLine = components['schemas']['CrossingLine']
export type Step = components['schemas']['Step']
export type Gate = components['schemas']['Gate']
export type Provider = components['schemas']['Provider']
export type Session = components['schemas']['Session']
export type Me = components['schemas']['Me']
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
  constructor(problem: Partial<Problem> | undefined, status: number) {
    super(problem?.detail ?? 'The service does not answer.')
    this.title = problem?.title ?? 'No answer'
    this.status = status
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** The data of an answer, or a problem thrown. */
export async function got<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new ApiProblem(undefined, 0)
  }
  if (answer.data === undefined) throw new ApiProblem(answer.error as Partial<Problem>, answer.response.status)
  return answer.data
}
