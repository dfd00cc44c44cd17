<script setup lang="ts">
// What came of asking the service: the problem with the way to try again, or that an answer is waited for.
import { useI18n } from 'vue-i18n'
import type { Asking } from '../api/asking'
import { visible } from '../look/shape'
import Mark from './Mark.vue'
const { t } = useI18n()
defineProps<{ of: Asking }>()
</script>

<template>
  <div v-if="of.problem" class="trouble" role="alert">
    <Mark tone="notice" />
    <div><b>{{ visible(of.problem.title) }}</b><br />{{ visible(of.problem.message) }}</div>
    <v-btn variant="text" color="primary" @click="of.again()">{{ t('again') }}</v-btn>
  </div>
  <p v-else-if="of.waits" class="quiet">{{ t('loading') }}</p>
</template>

<style scoped>
.trouble { display: flex; gap: 12px; align-items: center; padding: 12px 14px; margin-bottom: 12px; background: rgb(var(--v-theme-surface)); border-inline-start: 4px solid rgb(var(--v-theme-notice)); }
.trouble div { flex: 1; }
</style>
