<script setup lang="ts">
// One edition: what going back to it would change and for whom, its secrets, its site file.
import { ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { api, ApiProblem, got, language, type Comparison as Compared, type Edition, type Rehearsal } from '../api'
import { moment, visible } from '../look/shape'
import Comparison from '../parts/Comparison.vue'
import Publish from '../parts/Publish.vue'
import Rehearsed from '../parts/Rehearsed.vue'
import Trouble from '../parts/Trouble.vue'

const props = defineProps<{ number: string; rights: string }>()
const { t, locale } = useI18n()
const router = useRouter()
const edition = ref<Edition>()
const live = ref(0)
const comparison = ref<Compared>()
const rehearsal = ref<Rehearsal>()
const problem = ref<ApiProblem>()

async function read() {
  problem.value = undefined
  rehearsal.value = undefined
  comparison.value = undefined
  try {
    const number = Number(props.number)
    edition.value = await got(api.GET('/site/editions/{number}', { params: { path: { number } } }))
    live.value = (await got(api.GET('/me'))).edition
    if (live.value !== number) comparison.value = await got(api.POST('/site/compare', { body: { after: { edition: number } } }))
  } catch (e) {
    problem.value = e as ApiProblem
  }
}
watch([language, () => props.number], read, { immediate: true })

async function rehearse() {
  problem.value = undefined
  try {
    rehearsal.value = await got(api.POST('/rehearse', { body: { source: { edition: Number(props.number) }, days: 7 } }))
  } catch (e) {
    problem.value = e as ApiProblem
  }
}
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ t('editionTitle', { n: number }) }}</h1>
      <span v-if="edition" class="quiet">{{ moment(edition.published_at, locale) }}, {{ visible(edition.author) }}: {{ visible(edition.note) }}</span>
    </div>
    <Trouble v-if="problem" :problem="problem" @again="read" />
    <template v-if="edition">
      <template v-if="edition.number !== live">
        <h2>{{ t('backWould', { n: live }) }}</h2>
        <Comparison v-if="comparison" :comparison="comparison" />
        <p><v-btn variant="outlined" data-test="rehearse" @click="rehearse">{{ t('rehearse') }}</v-btn></p>
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
