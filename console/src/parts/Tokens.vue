<script setup lang="ts">
// API tokens: made here by whom they belong to; a value is shown once.
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type ApiToken } from '../api'
import { useActing, useReading } from '../api/asking'
import { upTo } from '../look/reads'
import { moment, visible } from '../look/shape'
import Asked from './Asked.vue'

const props = defineProps<{ rights: string }>()
const { t, locale } = useI18n()
const reading = useReading(() => got(api.GET('/tokens')))
const rows = computed(() => reading.data)
const acting = useActing(reading)
const making = ref(false)
const name = ref('')
const days = ref(30)
const role = ref<'view' | 'operate' | 'configure'>('view')
const areas = ref<string[]>([])
const made = ref('')
const roles = upTo(props.rights)
const parts = ['acts', 'crossings', 'directories', 'gates', 'handover', 'node', 'providers', 'rehearse', 'secrets', 'sessions', 'site', 'trials']

const make = () =>
  acting.act(async () => {
    making.value = false
    const body = { name: name.value, role: role.value, days: Number(days.value), areas: areas.value.length ? areas.value : undefined }
    made.value = (await got(api.POST('/tokens', { body }))).value
    name.value = ''
  })
const revoke = (token: ApiToken) => acting.act(() => got(api.DELETE('/tokens/{name}', { params: { path: { name: token.name } } })))
</script>

<template>
  <div class="head"><h2>{{ t('tokens') }}</h2><v-btn size="small" variant="outlined" data-test="make-token" @click="making = true">{{ t('makeToken') }}</v-btn></div>
  <Asked :of="reading" />
  <Asked :of="acting" />
  <p v-if="made" class="made" role="status">{{ t('tokenOnce') }} <code class="mono" data-test="token-value">{{ made }}</code> <v-btn size="x-small" variant="text" @click="made = ''">{{ t('tokenKept') }}</v-btn></p>
  <div class="scroll">
    <table v-ledger class="ledger">
      <thead><tr><th>{{ t('name') }}</th><th>{{ t('may') }}</th><th>{{ t('goodFor') }}</th><th>{{ t('owner') }}</th><th>{{ t('goodUntil') }}</th><th>{{ t('lastUsed') }}</th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th></tr></thead>
      <tbody>
        <tr v-for="k in rows" :key="k.name">
          <td class="fixed">{{ visible(k.name) }}</td>
          <td class="fixed">{{ t(`role.${k.role}`) }}</td>
          <td class="wide">{{ k.areas?.join(', ') ?? t('everything') }}</td>
          <td class="fixed">{{ k.owner ? visible(k.owner) : '—' }}</td>
          <td class="fixed">{{ k.expires_at ? moment(k.expires_at, locale) : t('noEnd') }}</td>
          <td class="fixed">{{ k.used_at ? moment(k.used_at, locale) : '—' }}</td>
          <td class="fixed"><v-btn size="small" variant="outlined" color="stop" @click="revoke(k)">{{ t('revoke') }}</v-btn></td>
        </tr>
      </tbody>
    </table>
  </div>
  <v-dialog v-model="making" max-width="480">
    <v-card rounded="2">
      <form @submit.prevent="make">
        <v-card-text class="fields">
          <v-text-field v-model="name" name="token-name" :label="t('name')" maxlength="60" />
          <v-select v-model="role" :label="t('may')" :items="roles.map((r) => ({ value: r, title: t(`role.${r}`) }))" />
          <v-select v-model="areas" :label="t('goodFor')" :items="parts" multiple chips :placeholder="t('everything')" />
          <v-text-field v-model="days" type="number" min="1" max="365" :label="t('days')" />
        </v-card-text>
        <v-card-actions><v-spacer /><v-btn variant="text" @click="making = false">{{ t('cancel') }}</v-btn><v-btn type="submit" color="primary" variant="flat" :disabled="!name.trim()">{{ t('makeToken') }}</v-btn></v-card-actions>
      </form>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.head { display: flex; gap: 14px; align-items: center; margin: 24px 0 10px; }
h2 { font-size: 1.08rem; font-weight: 600; }
.made { padding: 10px 14px; margin-bottom: 10px; background: rgb(var(--v-theme-surface)); border-inline-start: 4px solid rgb(var(--v-theme-notice)); overflow-wrap: anywhere; }
.fields { display: grid; gap: 12px; }
</style>
