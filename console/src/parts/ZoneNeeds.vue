<script setup lang="ts">
// What people in a zone must reach before they have signed in, and the lines that would open what is closed.
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type ZoneProposal } from '../api'
import { useActing } from '../api/asking'
import { visible } from '../look/shape'
import Asked from './Asked.vue'
import Copy from './Copy.vue'
import Mark from './Mark.vue'

const props = defineProps<{ zone: string }>()
const { t } = useI18n()
const from = ref('')
const proposal = ref<ZoneProposal>()
const asking = useActing()
const ask = () => asking.act(async () => {
  proposal.value = undefined
  proposal.value = await got(api.POST('/zones/{zone}/proposal', { params: { path: { zone: props.zone }, query: { seen_from: from.value.trim() || undefined } } }))
})
</script>

<template>
  <v-btn size="small" variant="text" color="primary" :loading="asking.busy" :data-test="`needs-${zone}`" @click="ask">{{ t('zone.needs') }}</v-btn>
  <Asked :of="asking" />
  <div v-if="proposal" class="needs" role="status" :data-test="`proposal-${zone}`">
    <form class="from" @submit.prevent="ask"><v-text-field v-model="from" :label="t('zone.seenFrom')" :hint="t('zone.seenFromHow')" persistent-hint density="compact" name="seen-from" /><v-btn type="submit" size="small" variant="text" :loading="asking.busy">{{ t('zone.again') }}</v-btn></form>
    <p v-if="!proposal.needs.length && !proposal.unknown.length" class="quiet">{{ t('zone.none') }}</p>
    <ul>
      <li v-for="n in proposal.needs" :key="n.host + n.port + n.code + n.way">
        <Mark :tone="n.open ? 'pass' : 'stop'" /> <span class="mono">{{ n.host }}:{{ n.port }}</span> {{ visible(n.why) }}
        <span class="quiet">{{ n.reach ? t('zone.by', { r: n.reach }) : n.open ? t('zone.inside') : n.given.length ? t('zone.after', { r: n.given.join(', ') }) : t('zone.shut') }}</span>
      </li>
      <li v-for="u in proposal.unknown" :key="u" class="bad"><Mark tone="notice" /> {{ t('zone.unknown') }} {{ visible(u) }}</li>
    </ul>
    <template v-if="proposal.document">
      <p>{{ t('zone.open') }} <Copy :text="proposal.document" /></p>
      <pre class="mono">{{ proposal.document }}</pre>
    </template>
  </div>
</template>

<style scoped>
.needs { border-inline-start: 3px solid rgb(var(--v-theme-line)); padding-inline-start: 10px; margin: 4px 0 8px; }
ul { list-style: none; padding: 0; margin: 0; }
li { padding: 2px 0; overflow-wrap: anywhere; }
li .quiet { margin-inline-start: 6px; }
pre { margin: 4px 0 0; padding: 8px 10px; overflow-x: auto; background: rgb(var(--v-theme-background)); border: 1px solid rgb(var(--v-theme-line)); font-size: 0.86rem; }
.from { display: flex; gap: 8px; align-items: center; max-width: 620px; margin-bottom: 6px; }
.bad { color: rgb(var(--v-theme-notice)); }
</style>
