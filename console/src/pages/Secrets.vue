<script setup lang="ts">
// Secrets: versions and what needs them. A value goes in and never comes out.
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, problemOf, type ApiProblem, type Secret } from '../api'
import { useActing, useReading } from '../api/asking'
import { secretOf } from '../look/reads'
import { moment, visible } from '../look/shape'
import KeyRing from '../parts/KeyRing.vue'
import Mark from '../parts/Mark.vue'
import Tokens from '../parts/Tokens.vue'
import Asked from '../parts/Asked.vue'

const { t, locale } = useI18n()
defineProps<{ rights: string }>()
const reading = useReading(() => got(api.GET('/secrets')))
const rows = computed(() => reading.data)
const acting = useActing(reading)
const setting = ref<Secret>()
const value = ref('')
const standBy = ref(true)
const making = ref('')
const trouble = ref<{ secret: Secret; version: number; problem: ApiProblem }>()

const store = () =>
  acting.act(async () => {
    const s = setting.value
    if (!s) return
    await got(api.PUT('/secrets/{name}', { params: { path: { name: s.name } }, body: { value: value.value, stand_by: standBy.value && s.version > 0 } }))
    setting.value = undefined
    value.value = ''
  })
async function fromFile(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (file) value.value = secretOf(new Uint8Array(await file.arrayBuffer()))
}
async function use(secret: Secret, version: number, anyway: string[] = []) {
  trouble.value = undefined
  try {
    await got(api.POST('/secrets/{name}/use', { params: { path: { name: secret.name } }, body: { version, anyway } }))
    await reading.again()
  } catch (e) {
    trouble.value = { secret, version, problem: problemOf(e) }
  }
}
const made = ref<{ name: string; fingerprint: string; until: string }>()
const ours = (s: Secret) => s.needed_by.some((n) => n.startsWith('SAML'))
const makeKey = (s: Secret) =>
  acting.act(async () => {
    making.value = s.name
    try {
      const key = await got(api.POST('/secrets/{name}/make-key', { params: { path: { name: s.name } }, body: { years: 3, stand_by: s.version > 0 } }))
      made.value = { name: s.name, fingerprint: key.certificate.fingerprint, until: key.certificate.not_after?.slice(0, 10) ?? '' }
    } finally {
      making.value = ''
    }
  })
const remove = (s: Secret) => acting.act(() => got(api.DELETE('/secrets/{name}', { params: { path: { name: s.name } } })))
const forget = (s: Secret, version: number) => acting.act(() => got(api.DELETE('/secrets/{name}/versions/{version}', { params: { path: { name: s.name, version } } })))
</script>

<template>
  <section class="page">
    <div class="page-head"><h1>{{ t('secrets') }}</h1><span class="quiet">{{ t('secretsWords') }}</span></div>
    <Asked :of="reading" />
    <Asked :of="acting" />
    <div v-if="trouble" class="asks" role="alert">
      <p><Mark tone="stop" /> <b>{{ trouble.problem.title }}</b> {{ visible(trouble.problem.message) }}</p>
      <v-btn v-if="trouble.problem.anyway" size="small" color="stop" @click="use(trouble.secret, trouble.version, [trouble.problem.anyway])">{{ t('useAnyway') }}</v-btn>
    </div>
    <p v-if="made" class="made" role="status"><Mark tone="pass" /> <span>{{ t('key.made', { name: made.name, until: made.until }) }} <span class="mono">{{ made.fingerprint }}</span> <router-link to="/providers">{{ t('key.tell') }}</router-link></span></p>
    <div class="scroll">
      <table v-ledger class="ledger">
        <thead><tr><th>{{ t('name') }}</th><th>{{ t('neededBy') }}</th><th>{{ t('versions') }}</th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th></tr></thead>
        <tbody>
          <tr v-for="s in rows" :key="s.name">
            <td class="mono fixed">{{ s.name }}</td>
            <td class="needed">{{ s.needed_by.join(', ') || '—' }}</td>
            <td class="wide">
              <span v-if="!s.versions.length" class="bad"><Mark tone="notice" /> {{ t('secretMissing') }}</span>
              <div v-for="v in s.versions" :key="v.version" class="version">
                <span>{{ t('secretVersion', { n: v.version }) }}</span>
                <b v-if="v.version === s.version" class="pass">{{ t('inUse') }}</b>
                <b v-else-if="v.waits" class="notice">{{ t('secretWaits') }}</b>
                <b v-else-if="v.version === s.next" class="notice">{{ t('standsBy') }}</b>
                <span v-else class="quiet">{{ t('usedBefore') }}</span>
                <span class="quiet">{{ moment(v.changed_at, locale) }}, {{ visible(v.changed_by) }}</span>
                <template v-if="rights === 'configure' && v.version !== s.version">
                  <v-btn size="small" variant="outlined" @click="use(s, v.version)">{{ t('useIt') }}</v-btn>
                  <v-btn size="small" variant="text" @click="forget(s, v.version)">{{ t('forget') }}</v-btn>
                </template>
              </div>
            </td>
            <td class="fixed"><div v-if="rights === 'configure'" class="ways">
              <v-btn v-if="ours(s)" size="small" variant="outlined" :loading="making === s.name" :title="t('key.hint')" @click="makeKey(s)">{{ t('key.make') }}</v-btn>
              <v-btn v-if="!s.needed_by.length" size="small" variant="text" @click="remove(s)">{{ t('secretRemove') }}</v-btn>
              <v-btn size="small" variant="outlined" @click="setting = s">{{ t('setSecret') }}</v-btn>
            </div></td>
          </tr>
          <tr v-if="rows && !rows.length"><td colspan="4" class="quiet">{{ t('none.secrets') }}</td></tr>
        </tbody>
      </table>
    </div>
    <Tokens :rights="rights" />
    <KeyRing :rights="rights" />
    <v-dialog :model-value="!!setting" max-width="480" @update:model-value="setting = undefined">
      <v-card v-if="setting" rounded="2">
        <form @submit.prevent="store">
          <v-card-text>
            <p class="mono">{{ setting.name }}</p>
            <v-text-field v-model="value" type="password" name="secret" autocomplete="off" :label="t('newValue')" class="value" />
            <label class="file">{{ t('orFile') }} <input type="file" name="file" @change="fromFile" /></label>
            <v-checkbox v-if="setting.version" v-model="standBy" density="compact" hide-details :label="t('standBy')" />
          </v-card-text>
          <v-card-actions><v-spacer /><v-btn variant="text" @click="setting = undefined">{{ t('cancel') }}</v-btn><v-btn type="submit" color="primary" variant="flat" :disabled="!value">{{ t('store') }}</v-btn></v-card-actions>
        </form>
      </v-card>
    </v-dialog>
  </section>
</template>

<style scoped>
.version { display: flex; flex-wrap: wrap; gap: 4px 12px; align-items: center; padding: 2px 0; }
.pass { color: rgb(var(--v-theme-pass)); font-weight: 560; }
.notice { color: rgb(var(--v-theme-notice)); font-weight: 560; }
.bad { color: rgb(var(--v-theme-notice)); }
.needed { min-width: 160px; }
.value { margin-top: 12px; }
.file { display: flex; flex-wrap: wrap; gap: 6px 10px; align-items: baseline; padding-bottom: 8px; }
.ways { display: flex; gap: 8px; justify-content: flex-end; }
.made { display: flex; gap: 10px; align-items: baseline; margin-bottom: 12px; overflow-wrap: anywhere; }
.asks { padding: 12px 14px; margin-bottom: 12px; background: rgb(var(--v-theme-surface)); border-inline-start: 4px solid rgb(var(--v-theme-stop)); }
.asks p { margin-bottom: 8px; }
</style>
