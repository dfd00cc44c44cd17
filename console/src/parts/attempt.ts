// What a page has done by the service: busy until it is answered, and the problem where it was refused.
import { ref } from 'vue'
import type { ApiProblem } from '../api'

export function useAttempt() {
  const problem = ref<ApiProblem>()
  const busy = ref(false)
  async function attempt(what: () => Promise<void>) {
    problem.value = undefined
    busy.value = true
    try {
      await what()
    } catch (e) {
      problem.value = e as ApiProblem
    } finally {
      busy.value = false
    }
  }
  return { problem, busy, attempt }
}
