<script setup lang="ts">
import { useI18n } from 'vue-i18n'
import type { ApiProblem } from '../api'
import Mark from './Mark.vue'
const { t } = useI18n()
defineProps<{ problem: ApiProblem }>()
defineEmits<{ again: [] }>()
</script>

<template>
  <div class="trouble" role="alert">
    <Mark tone="notice" />
    <div><b>{{ problem.title }}</b><br />{{ problem.message }}</div>
    <v-btn variant="text" color="primary" @click="$emit('again')">{{ t('again') }}</v-btn>
  </div>
</template>

<style scoped>
.trouble { display: flex; gap: 12px; align-items: center; padding: 12px 14px; margin-bottom: 12px; background: rgb(var(--v-theme-surface)); border-inline-start: 4px solid rgb(var(--v-theme-notice)); }
.trouble div { flex: 1; }
</style>
