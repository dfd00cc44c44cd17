<script setup lang="ts">
// Keys of the ring: what still needs each, and retiring one. What a key is made of is never here.
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type RingKey } from '../api'
import { useActing, useReading } from '../api/asking'
import { moment } from '../look/shape'
import Asked from './Asked.vue'

defineProps<{ rights: string }>()
const { t, locale } = useI18n()
const reading = useReading(() => got(api.GET('/key-ring')))
const rows = computed(() => reading.data)
const retiring = useActing()
const asked = ref<number>()
const retire = (number: number, anyway: string[] = []) => {
  asked.value = number
  return retiring.act(async () => void (reading.data = await got(api.POST('/key-ring/{number}/retire', { params: { path: { number } }, body: { anyway } }))))
}
const state = (k: RingKey) => (k.retired ? t('ring.retired', { at: moment(k.retired, locale.value) }) : k.seals ? t('ring.seals') : k.here ? t('ring.opens') : t('ring.away'))
</script>

<template>
  <h2>{{ t('ring.title') }}</h2>
  <p class="quiet words">{{ t('ring.words') }}</p>
  <Asked :of="reading" />
  <Asked :of="retiring" />
  <p v-if="retiring.problem?.anyway && asked"><v-btn size="small" color="stop" :loading="retiring.busy" @click="retire(asked, [retiring.problem.anyway])">{{ t('ring.anyway') }}</v-btn></p>
  <div class="scroll">
    <table v-ledger class="ledger" data-test="ring">
      <thead>
        <tr><th>{{ t('ring.key') }}</th><th>{{ t('ring.state') }}</th><th>{{ t('ring.since') }}</th><th>{{ t('secrets') }}</th><th>{{ t('ring.factors') }}</th><th>{{ t('sessions') }}</th><th>{{ t('ring.codes') }}</th><th>{{ t('acts') }}</th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th></tr>
      </thead>
      <tbody>
        <tr v-for="k in rows" :key="k.number">
          <td class="fixed"><b>{{ k.number }}</b></td>
          <td class="wide">{{ state(k) }}</td>
          <td class="fixed">{{ moment(k.since, locale) }}</td>
          <td class="fixed">{{ k.secrets }}</td>
          <td class="fixed">{{ k.factors }}</td>
          <td class="fixed">{{ k.sessions }}</td>
          <td class="fixed">{{ k.recovery_codes }}</td>
          <td class="fixed">{{ k.acts }}</td>
          <td class="fixed"><v-btn v-if="rights === 'configure' && k.here && !k.seals && !k.retired" size="small" variant="outlined" :loading="retiring.busy" @click="retire(k.number)">{{ t('ring.retire') }}</v-btn></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
h2 { font-size: 1.05rem; font-weight: 620; margin: 26px 0 4px; }
.words { margin-bottom: 10px; max-width: 80ch; }
</style>
