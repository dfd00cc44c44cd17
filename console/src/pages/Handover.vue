<script setup lang="ts">
// A handover sheet: all that another team must enter, ready to be copied, sent and printed.
import { mdiPrinterOutline } from '@mdi/js'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRoute, useRouter } from 'vue-router'
import { type ProviderKind, api, got } from '../api'
import { useReading } from '../api/asking'
import { visible } from '../look/shape'
import Copy from '../parts/Copy.vue'
import Asked from '../parts/Asked.vue'

const { t } = useI18n()
const route = useRoute()
const router = useRouter()
const known = ref<{ provider: string[]; directory: string[]; realm: string[]; application: string[] }>({ provider: [], directory: [], realm: [], application: [] })
const one = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : undefined)
const kinds: ProviderKind[] = ['oidc', 'saml']
const part = computed(() => (one('for') ?? 'provider') as 'provider' | 'directory' | 'realm' | 'application')
const name = computed(() => one('name') ?? '')
const gate = computed(() => one('gate'))
const kind = computed(() => kinds.find((k) => k === one('kind')))
const teams = computed(() => (['provider', 'directory', 'realm', 'application'] as const).map((value) => ({ value, title: t(`sheet.for.${value}`) })))
const gates = computed(() => [{ value: '', title: t('sheet.allGates') }, ...known.value.application.map((g) => ({ value: g, title: g }))])
const paper = computed(() => {
  const query = new URLSearchParams(Object.entries({ gate: gate.value, kind: kind.value }).filter((e): e is [string, string] => !!e[1]))
  return `/api/v1/handover/${part.value}/${encodeURIComponent(name.value)}/print?${query}`
})
const go = (query: Record<string, string | undefined>) => router.replace({ query: { for: part.value, name: name.value, gate: gate.value, kind: kind.value, ...query } })

const names = useReading(async () => {
  const [p, d, realm, g] = await Promise.all([got(api.GET('/providers')), got(api.GET('/directories')), got(api.GET('/kerberos/realms')), got(api.GET('/gates'))])
  known.value = { provider: p.map((x) => x.name), directory: d.map((x) => x.name), realm, application: g.map((x) => x.name) }
  if (!name.value) await go({ name: known.value[part.value][0] })
})
const reading = useReading(async () => {
  if (!name.value) return undefined
  const path = { part: part.value, name: name.value }
  return got(api.GET('/handover/{part}/{name}', { params: { path, query: { gate: gate.value, kind: kind.value } } }))
}, [() => route.fullPath])
const sheet = computed(() => reading.data)
</script>

<template>
  <section class="page">
    <div class="page-head"><h1>{{ t('sheet.title') }}</h1><span v-if="sheet" class="quiet">{{ sheet.state }}</span></div>
    <div class="choose">
      <v-select :model-value="part" :items="teams" :label="t('sheet.team')" class="pick" @update:model-value="(v: typeof part) => go({ for: v, name: known[v][0] ?? '', gate: undefined, kind: undefined })" />
      <v-combobox :model-value="name" :items="known[part]" variant="outlined" density="compact" hide-details :label="t('name')" class="pick" @update:model-value="(v: string) => v && go({ name: v })" />
      <v-select v-if="part === 'provider'" :model-value="gate ?? ''" :items="gates" :label="t('sheet.gate')" class="pick" @update:model-value="(v: string) => go({ gate: v || undefined })" />
      <v-select v-if="part === 'provider' && sheet && !sheet.connected" :model-value="kind ?? 'oidc'" :items="[{ value: 'oidc', title: 'OpenID Connect' }, { value: 'saml', title: 'SAML 2.0' }]" :label="t('prov.protocol')" class="pick" @update:model-value="(v: string) => go({ kind: v })" />
      <span class="spring" />
      <template v-if="sheet"><Copy :text="sheet.markdown" /> <v-btn size="small" variant="outlined" :prepend-icon="mdiPrinterOutline" :href="paper" target="_blank" rel="noopener">{{ t('sheet.paper') }}</v-btn></template>
    </div>
    <Asked :of="names" />
    <Asked :of="reading" />
    <template v-if="sheet && !reading.problem">
      <h2 class="title">{{ visible(sheet.title) }}</h2>
      <section v-for="(p, i) in sheet.tables" :key="i" :data-part="p.code">
        <h2>{{ p.heading }}</h2>
        <div class="scroll">
          <table v-ledger class="ledger">
            <tbody>
              <tr v-for="(r, j) in p.rows" :key="j">
                <th scope="row">{{ visible(r.label) }}</th>
                <td class="value"><template v-if="r.value"><span class="mono">{{ visible(r.value).replaceAll('\\u{a}', '\n') }}</span> <Copy :text="r.value" small /></template><span v-else class="quiet">{{ t('sheet.theirs') }}</span></td>
                <td class="why quiet">{{ visible(r.why) }}
                  <div v-if="r.check" class="check"><span class="mono">{{ visible(r.check).replaceAll('\\u{a}', '\n') }}</span> <Copy :text="r.check" small /></div></td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
      <h2>{{ t('sheet.then') }}</h2>
      <ol class="then"><li v-for="s in sheet.steps" :key="s">{{ visible(s) }}</li></ol>
    </template>
  </section>
</template>

<style scoped>
.choose { display: flex; flex-wrap: wrap; gap: 10px; align-items: center; margin-bottom: 14px; }
.pick { flex: 0 1 220px; min-width: 160px; }
.spring { flex: 1; }
h2 { font-size: 1.02rem; font-weight: 600; margin: 18px 0 6px; }
.title { font-size: 1.12rem; margin-top: 4px; overflow-wrap: anywhere; }
.ledger th { position: static; width: 210px; white-space: normal; vertical-align: top; font-size: 1rem; color: rgb(var(--v-theme-on-surface)); border-bottom: 1px solid rgb(var(--v-theme-line)); }
.ledger tr:last-child th { border-bottom: 0; }
.value { width: 46%; overflow-wrap: anywhere; white-space: pre-wrap; }
.why { overflow-wrap: anywhere; }

.check { white-space: pre-wrap; overflow-wrap: anywhere; margin-top: 3px; color: rgb(var(--v-theme-on-surface)); }
.then { padding-inline-start: 22px; }
.then li { padding: 2px 0; overflow-wrap: anywhere; }
@media (max-width: 700px) { .ledger, .ledger tbody, .ledger tr, .ledger th, .ledger td { display: block; width: auto; } .ledger td, .ledger th { border: 0; padding: 2px 12px; } .ledger tr { border-bottom: 1px solid rgb(var(--v-theme-line)); padding: 6px 0; } }
</style>
