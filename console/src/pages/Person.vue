<script setup lang="ts">
// One person: roles at each gate with since when, why they changed, and their live sessions.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got } from '../api'
import { useReading } from '../api/asking'
import { browser, moment, visible } from '../look/shape'
import Asked from '../parts/Asked.vue'

const props = defineProps<{ provider: string; subject: string; rights: string }>()
const { t, locale } = useI18n()
const reading = useReading(async () => {
  const path = { provider: props.provider, subject: props.subject }
  const [roles, live] = await Promise.all([
    got(api.GET('/people/{provider}/{subject}/roles', { params: { path } })),
    got(api.GET('/sessions', { params: { query: { person: props.subject } } })),
  ])
  return { roles, sessions: live.filter((s) => s.provider === path.provider && s.subject === path.subject) }
}, [() => props.provider, () => props.subject])
const found = computed(() => reading.data?.roles)
const sessions = computed(() => reading.data?.sessions ?? [])
const name = computed(() => sessions.value[0]?.name)
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ name ? visible(name) : t('person') }}</h1><span class="mono quiet">{{ visible(`${provider}/${subject}`) }}</span>
      <router-link v-if="rights !== 'view'" :to="{ path: '/leavers', query: { who: `${provider}/${subject}` } }">{{ t('left.link') }}</router-link>
      <router-link :to="{ path: '/crossings', query: { person: subject } }">{{ t('samePerson') }}</router-link>
    </div>
    <Asked :of="reading" />
    <template v-if="found">
      <h2>{{ t('roles.now') }}</h2>
      <p class="quiet">{{ t('roles.words') }}</p>
      <div class="scroll">
        <table v-ledger class="ledger">
          <thead><tr><th>{{ t('gate') }}</th><th>{{ t('roles.roles') }}</th><th>{{ t('roles.since') }}</th><th>{{ t('roles.seen') }}</th><th>{{ t('crossing') }}</th></tr></thead>
          <tbody>
            <tr v-for="r in found.roles" :key="r.gate">
              <td class="fixed"><b>{{ r.gate }}</b></td>
              <td class="wide">{{ visible(r.roles.join(', ')) || t('roles.none') }}</td>
              <td class="fixed">{{ moment(r.since, locale) }}</td>
              <td class="fixed">{{ moment(r.seen, locale) }}</td>
              <td class="mono fixed"><router-link :to="`/crossings/${r.crossing}`">{{ r.crossing }}</router-link></td>
            </tr>
            <tr v-if="!found.roles.length"><td colspan="5" class="quiet">{{ t('roles.nobody') }}</td></tr>
          </tbody>
        </table>
      </div>
      <h2>{{ t('roles.changes') }}</h2>
      <p v-if="!found.changes.length" class="quiet">{{ t('roles.noChange') }}</p>
      <ol v-else class="changes" data-test="changes">
        <li v-for="c in found.changes" :key="c.crossing + c.gate">
          <div><span class="quiet">{{ moment(c.at, locale) }}</span> <b>{{ c.gate }}</b>
            <span v-for="g in c.gained" :key="`+${g}`" class="gained">+ {{ visible(g) }}</span>
            <span v-for="l in c.lost" :key="`-${l}`" class="lost">− {{ visible(l) }}</span>
            <router-link class="mono" :to="`/crossings/${c.crossing}`">{{ c.crossing }}</router-link></div>
          <p v-for="w in c.why" :key="w" class="quiet">{{ visible(w) }}</p>
        </li>
      </ol>
      <h2>{{ t('sessions') }}</h2>
      <p v-if="!sessions.length" class="quiet">{{ t('roles.noSession') }}</p>
      <ul v-else class="changes">
        <li v-for="s in sessions" :key="s.id">{{ visible(browser(s.agent)) }} <span class="mono quiet">{{ s.address }}</span> <span class="quiet">{{ t('goodUntil') }} {{ moment(s.good_until, locale) }}</span></li>
      </ul>
    </template>
  </section>
</template>

<style scoped>
h2 { font-size: 1.02rem; font-weight: 600; margin: 20px 0 4px; }
p { margin: 0 0 6px; }
.changes { list-style: none; padding: 0; margin: 6px 0; }
.changes li { padding: 7px 0; border-top: 1px solid rgb(var(--v-theme-line)); overflow-wrap: anywhere; }
.changes li div { display: flex; flex-wrap: wrap; gap: 4px 14px; align-items: baseline; }
.changes p { margin: 2px 0 0; font-size: 0.92rem; }
.gained { color: rgb(var(--v-theme-pass)); font-weight: 600; }
.lost { color: rgb(var(--v-theme-stop)); font-weight: 600; }
</style>
