<script setup lang="ts">
// One edition: what going back to it would change and for whom, its secrets, its site file.
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { api, got, language, type Rehearsal } from '../api'
import { useActing, useReading } from '../api/asking'
import { moment, visible } from '../look/shape'
import Comparison from '../parts/Comparison.vue'
import Publish from '../parts/Publish.vue'
import Rehearsed from '../parts/Rehearsed.vue'
import Asked from '../parts/Asked.vue'

const props = defineProps<{ number: string; rights: string }>()
const { t, locale } = useI18n()
const router = useRouter()
const rehearsal = ref<Rehearsal>()
const number = computed(() => Number(props.number))
const reading = useReading(async () => {
  const edition = await got(api.GET('/site/editions/{number}', { params: { path: { number: number.value } } }))
  const live = (await got(api.GET('/me'))).edition
  const after = { edition: edition.number }
  const comparison = live === edition.number ? undefined : await got(api.POST('/site/compare', { body: { after } }))
  return { edition, live, comparison }
}, [number])
const edition = computed(() => reading.data?.edition)
const live = computed(() => reading.data?.live ?? 0)
const comparison = computed(() => reading.data?.comparison)
watch([language, number], () => { rehearsal.value = undefined })

const rehearsing = useActing()
const rehearse = () => rehearsing.act(async () => {
  rehearsal.value = await got(api.POST('/rehearse', { body: { source: { edition: number.value }, days: 7 } }))
})
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ t('editionTitle', { n: number }) }}</h1>
      <span v-if="edition" class="quiet">{{ moment(edition.published_at, locale) }}, {{ visible(edition.author) }}: {{ visible(edition.note) }}</span>
    </div>
    <Asked :of="reading" />
    <Asked :of="rehearsing" />
    <template v-if="edition">
      <template v-if="edition.number !== live">
        <h2>{{ t('backWould', { n: live }) }}</h2>
        <Comparison v-if="comparison" :comparison="comparison" />
        <p><v-btn variant="outlined" :loading="rehearsing.busy" data-test="rehearse" @click="rehearse">{{ t('rehearse') }}</v-btn></p>
        <Rehearsed v-if="rehearsal" :rehearsal="rehearsal" />
        <template v-if="rights === 'configure'">
          <h2>{{ t('rollBack') }}</h2>
          <Publish :source="{ edition: edition.number }" :button="t('rollBackTo', { n: edition.number })" @published="router.push('/editions')" />
        </template>
      </template>
      <template v-if="edition.secrets.length">
        <h2>{{ t('secrets') }}</h2>
        <ul>
          <li v-for="s in edition.secrets" :key="s.name"><span class="mono">{{ s.name }}</span> {{ s.version ? t('secretVersion', { n: s.version }) : t('secretMissing') }} <span v-if="s.version_then && s.version_then !== s.version" class="quiet">{{ t('secretThen', { n: s.version_then }) }}</span></li>
        </ul>
      </template>
      <h2>{{ t('siteFile') }}</h2>
      <pre tabindex="0" class="mono">{{ edition.document }}</pre>
    </template>
  </section>
</template>

<style scoped>
h2 { font-size: 1.08rem; font-weight: 600; margin: 20px 0 8px; }
pre { overflow: auto; max-height: 520px; padding: 12px 14px; background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); line-height: 1.5; }
ul { list-style: none; padding: 0; }
</style>
