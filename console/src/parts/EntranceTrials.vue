<script setup lang="ts">
// Trials of entrances: those that go on, and beginning one. Whoever one is about connects, and nothing is opened to them.
import { computed, onUnmounted, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { api, got } from '../api'
import { useActing, useReading } from '../api/asking'
import { entrancesOf, whom } from '../look/entrance'
import { moment, visible } from '../look/shape'
import Asked from './Asked.vue'

const { rights } = defineProps<{ rights: string }>()
const { t, locale } = useI18n()
const router = useRouter()
const gates = useReading(() => got(api.GET('/gates')))
const entrances = computed(() => entrancesOf(gates.data ?? []))
const reading = useReading(() => got(api.GET('/trials/entrance')))
const live = setInterval(reading.again, 10_000)
onUnmounted(() => clearInterval(live))
const at = ref<{ gate: string; entrance: string }>()
const from = ref('')
const person = ref('')
const acting = useActing()
const begin = () =>
  acting.act(async () => {
    if (!at.value) return
    const body = { entrance: at.value.entrance, from: from.value.trim() || undefined, person: person.value.trim() || undefined }
    const trial = await got(api.POST('/trials/entrance', { body }))
    await router.push(`/trials/entrance/${trial.id}`)
  })
</script>

<template>
  <section v-if="entrances.length" data-test="entrance-trials">
    <h2>{{ t('entranceTrial.many') }}</h2>
    <details v-if="rights !== 'view'" data-test="begin-trial">
      <summary>{{ t('entranceTrial.begin') }}</summary>
      <p class="quiet">{{ t('entranceTrial.how') }}</p>
      <form class="tools" @submit.prevent="begin">
        <v-select v-model="at" :items="entrances" :label="t('present.entrance')" />
        <v-text-field v-model="from" name="from" :label="t('entranceTrial.from')" :hint="t('entranceTrial.fromHow')" persistent-hint />
        <v-text-field v-model="person" name="whom" :label="t('entranceTrial.person')" />
        <v-btn type="submit" variant="flat" color="primary" :loading="acting.busy" :disabled="!at">{{ t('entranceTrial.beginIt') }}</v-btn>
      </form>
      <Asked :of="acting" />
    </details>
    <div v-if="reading.data?.length" class="scroll">
      <table class="ledger">
        <thead><tr><th>{{ t('present.entrance') }}</th><th>{{ t('entranceTrial.whom') }}</th><th>{{ t('entranceTrial.by') }}</th><th>{{ t('goodUntil') }}</th><th>{{ t('entranceTrial.came') }}</th></tr></thead>
        <tbody>
          <tr v-for="trial in reading.data" :key="trial.id">
            <td><router-link :to="`/trials/entrance/${trial.id}`">{{ trial.entrance }}</router-link></td>
            <td>{{ whom(trial, t) }}</td>
            <td>{{ visible(trial.begun_by) }}</td>
            <td class="fixed">{{ moment(trial.until, locale) }}</td>
            <td class="fixed number">{{ trial.came }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
h2 { font-size: 1.02rem; font-weight: 600; margin: 22px 0 14px; }
details { margin-bottom: 10px; }
</style>
