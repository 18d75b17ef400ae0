<template>
  <h1>There is nothing here</h1>
  <p>The address may be old. <RouterLink to="/workflows">See the workflows</RouterLink> or <RouterLink to="/runs">the runs</RouterLink>.</p>
</template>
