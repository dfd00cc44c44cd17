// The one way in which pages read from the service and act by it: busy until it answers, the problem where it refuses, and trying again.
import { computed, reactive, ref, watch, type Ref, type WatchSource } from 'vue'
import { language, problemOf, type ApiProblem } from '.'

/** What the part `Asked` shows: a problem with the way to try again, or that an answer is waited for. */
export interface Asking {
  readonly problem?: ApiProblem
  /** Whether nothing was answered yet. */
  readonly waits: boolean
  again: () => Promise<unknown>
}

/** What a page shows: read at once, in each language, and whenever one of `of` changes. What was asked last counts. */
export function useReading<T>(read: () => Promise<T>, of: WatchSource[] = []) {
  const data = ref() as Ref<T | undefined>
  const problem = ref<ApiProblem>()
  const busy = ref(false)
  const answered = ref(false)
  let last = 0
  async function again() {
    const mine = ++last
    problem.value = undefined
    busy.value = true
    try {
      const answer = await read()
      if (mine !== last) return
      data.value = answer
      answered.value = true
    } catch (e) {
      if (mine === last) problem.value = problemOf(e)
    } finally {
      if (mine === last) busy.value = false
    }
  }
  watch([language, ...of], again, { immediate: true })
  const waits = computed(() => busy.value && !answered.value)
  return reactive({ data, problem, busy, answered, waits, again })
}

/** A list that goes on page by page. The first page is read as anything is; reading it again forgets the others. */
export function usePages<P>(page: (last?: P) => Promise<P>, of: WatchSource[] = []) {
  const first = useReading(() => page(), of)
  const further = ref([]) as Ref<P[]>
  const all = computed(() => (first.data === undefined ? [] : [first.data, ...further.value]))
  watch(() => first.data, () => { further.value = [] })
  const acting = useActing()
  const more = () =>
    acting.act(async () => {
      const began = first.data
      const next = await page(all.value.at(-1))
      // A list that was read anew meanwhile has pages of its own.
      if (began === first.data) further.value.push(next)
    })
  return reactive({ first, all, last: computed(() => all.value.at(-1)), acting, more })
}

/** What a person has done by the service, after which `shown` is read again. Nothing is shown to wait for: what is pressed shows that it is busy. */
export function useActing(shown?: { again: () => Promise<unknown> }) {
  const problem = ref<ApiProblem>()
  const busy = ref(false)
  let latest: () => Promise<unknown> = () => Promise.resolve()
  /** Does it, and says whether it was done. */
  async function act(what: () => Promise<unknown>): Promise<boolean> {
    latest = what
    problem.value = undefined
    busy.value = true
    try {
      await what()
      await shown?.again()
      return true
    } catch (e) {
      problem.value = problemOf(e)
      return false
    } finally {
      busy.value = false
    }
  }
  return reactive({ problem, busy, waits: false, act, again: () => act(latest) })
}
