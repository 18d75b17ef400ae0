/** What a new workflow begins with: small, sound, and worth reading. */
export const FIRST = `oak: 1
workflow: my-first
title: My first workflow

input:
  type: object
  required: [name]
  properties:
    name: {type: string, examples: [Ada Fenn]}

steps:
  - step: greeting
    set:
      text: "Welcome to Larkspur Huts, \${ input.name }."

result: \${ greeting.text }
`
