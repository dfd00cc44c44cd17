<script setup lang="ts">
// What networks open, by what, and whether somebody may reach something.
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type ReachAnswer } from '../api'
import { useActing, useReading } from '../api/asking'
import { described, MACHINE } from '../look/reach'
import { moment, visible } from '../look/shape'
import Asked from './Asked.vue'
import Mark from './Mark.vue'
import Story from './Story.vue'

const props = defineProps<{ gates: string[] }>()
const { t, locale } = useI18n()
const ask = ref({ to: '', gate: props.gates[0] ?? '', provider: '', person: '', machine: '', groups: '', entrance: '', platform: '', version: '', profile: false, at: '', draft: false })
const answer = ref<ReachAnswer>()

const reading = useReading(() => Promise.all([got(api.GET('/reaches')), got(api.GET('/gates'))]))
const reaches = computed(() => reading.data?.[0])
// Nobody first: a machine on which nobody is signed in.
const nobody = ''
const providers = computed(() => {
  const ways = reading.data?.[1].find((g) => g.name === ask.value.gate)?.ways_in ?? []
  return [{ title: t('reach.nobody'), value: nobody }, { title: t('reach.machine'), value: MACHINE }, ...ways.map((w) => ({ title: w, value: w }))]
})
// Entrances of the gate, where people come by tunnels.
const entrances = computed(() => {
  const gate = reading.data?.[1].find((g) => g.name === ask.value.gate && g.kind === 'vpn')
  return gate ? [{ title: t('reach.noTunnel'), value: '' }, ...gate.zones.map((z) => ({ title: z.name, value: z.name }))] : []
})
watch(() => ask.value.gate, () => { ask.value.entrance = '' })
const isPerson = computed(() => ask.value.provider !== nobody && ask.value.provider !== MACHINE)
const trying = useActing()
const attempt = () => trying.act(async () => {
  answer.value = undefined
  answer.value = await got(api.POST('/reach/try', { body: described(ask.value) }))
})
</script>

<template>
  <section class="reach">
    <h2>{{ t('reach.title') }}</h2>
    <p class="quiet">{{ t('reach.words') }}</p>
    <div v-if="reaches" class="scroll">
      <table v-ledger class="ledger">
        <thead><tr><th>{{ t('reach.one') }}</th><th>{{ t('reach.leads') }}</th><th>{{ t('reach.by') }}</th></tr></thead>
        <tbody>
          <tr v-for="r in reaches" :key="r.name">
            <td class="fixed"><b>{{ r.name }}</b><div v-if="r.title !== r.name" class="quiet">{{ visible(r.title) }}</div></td>
            <td class="leads mono">{{ r.leads_to }}</td>
            <td class="by"><div v-for="b in r.opened_by" :key="b">{{ visible(b) }}</div><span v-if="!r.opened_by.length" class="quiet">{{ t('reach.byNothing') }}</span></td>
          </tr>
          <tr v-if="!reaches.length"><td colspan="3" class="quiet">{{ t('reach.none') }}</td></tr>
        </tbody>
      </table>
    </div>
    <h3>{{ t('reach.ask') }}</h3>
    <form class="try" data-test="try-reach" @submit.prevent="attempt">
      <v-text-field v-model="ask.to" name="to" :label="t('reach.to')" autocomplete="off" spellcheck="false" required />
      <v-select v-if="gates.length > 1" v-model="ask.gate" :items="gates" :label="t('gate')" />
      <v-select v-model="ask.provider" :items="providers" :label="t('reach.who')" />
      <v-text-field v-if="ask.provider === MACHINE" v-model="ask.machine" name="machine" :label="t('reach.machineIs')" autocomplete="off" spellcheck="false" required />
      <v-text-field v-else v-model="ask.person" name="person" :label="t('reach.person')" :disabled="ask.provider === nobody" autocomplete="off" spellcheck="false" />
      <v-text-field v-model="ask.groups" name="groups" :label="t('reach.groups')" :disabled="!isPerson || ask.person !== ''" autocomplete="off" spellcheck="false" />
      <template v-if="entrances.length && isPerson">
        <v-select v-model="ask.entrance" :items="entrances" :label="t('reach.entrance')" data-test="entrance" />
        <template v-if="ask.entrance">
          <v-text-field v-model="ask.platform" name="platform" :label="t('reach.platform')" autocomplete="off" spellcheck="false" />
          <v-text-field v-model="ask.version" name="version" :label="t('reach.version')" autocomplete="off" spellcheck="false" />
          <v-checkbox v-model="ask.profile" :label="t('reach.profile')" hide-details density="compact" />
        </template>
      </template>
      <v-text-field v-model="ask.at" name="at" type="datetime-local" :label="t('reach.at')" :disabled="ask.provider === nobody" />
      <v-checkbox v-model="ask.draft" :label="t('route.draft')" hide-details density="compact" />
      <v-btn type="submit" color="primary" :loading="trying.busy" :disabled="!ask.to.trim()">{{ t('reach.try') }}</v-btn>
    </form>
    <Asked :of="reading" />
    <Asked :of="trying" />
    <div v-if="answer" class="answer" data-test="reached" role="status">
      <p class="quiet">{{ visible(answer.to) }}<template v-if="answer.addresses.length"> ({{ answer.addresses.join(', ') }})</template> · {{ answer.source }}</p>
      <article v-for="m in answer.machines" :key="m.presence" data-test="machine">
        <p><Mark :tone="m.kernel_open === false ? 'stop' : m.kernel_open ? 'pass' : 'quiet'" /> <b class="mono">{{ m.known_by }}</b> {{ visible(m.name) }}, {{ m.ended_at ? t('reach.was', { from: moment(m.began, locale), to: moment(m.ended_at, locale) }) : t('reach.since', { from: moment(m.began, locale) }) }}</p>
        <p class="quiet">{{ m.kernel }}</p>
      </article>
      <p v-if="ask.provider === MACHINE && !answer.machines.length" class="quiet">{{ t('reach.nobodyThere') }}</p>
      <article v-for="g in answer.gates" :key="g.gate">
        <p><Mark :tone="g.open ? 'pass' : 'stop'" /> <b>{{ g.gate }}</b> {{ visible(g.sentence) }}</p>
        <p v-if="!g.open && g.because && g.verdict !== 'in'" class="bad">{{ t('reach.notIn') }} {{ visible(g.because) }}</p>
        <p v-if="g.remedy" class="quiet">{{ visible(g.remedy) }}</p>
        <Story v-if="g.steps.length" :steps="g.steps" />
      </article>
    </div>
  </section>
</template>

<style scoped>
.reach { margin-top: 22px; }
h2 { font-size: 1.02rem; font-weight: 600; margin-bottom: 4px; }
h3 { font-size: 0.92rem; font-weight: 600; margin: 16px 0 0; }
p { margin: 0 0 6px; }
.try { display: grid; grid-template-columns: repeat(auto-fit, minmax(170px, 1fr)); gap: 8px 10px; align-items: center; margin: 8px 0 12px; }
.leads { width: 50%; overflow-wrap: anywhere; }
.by { width: 36%; overflow-wrap: anywhere; }
.answer article { border-top: 1px solid rgb(var(--v-theme-line)); padding: 8px 0; }
.bad { color: rgb(var(--v-theme-notice)); }
</style>
