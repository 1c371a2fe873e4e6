<script setup lang="ts">
import { enGB, NConfigProvider, NDialogProvider, NGlobalStyle, NMessageProvider } from 'naive-ui'
import { watchEffect } from 'vue'
import Shell from './components/Shell.vue'
import { useTheme } from './theme'

// An empty field says nothing, or what we say; not the library's “please”.
const locale = {
  ...enGB,
  Input: { ...enGB.Input, placeholder: '' },
  Select: { ...enGB.Select, placeholder: '' },
  InputNumber: { ...enGB.InputNumber, placeholder: '' },
}
const { theme, overrides, isDark } = useTheme()
watchEffect(() => document.documentElement.classList.toggle('dark', isDark.value))
</script>

<template>
  <NConfigProvider :theme="theme" :theme-overrides="overrides" :locale="locale" style="height: 100%">
    <NGlobalStyle />
    <NMessageProvider
      ><NDialogProvider><Shell /></NDialogProvider
    ></NMessageProvider>
  </NConfigProvider>
</template>
