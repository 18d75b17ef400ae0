/** What a new agent begins with. */
export const FIRST_AGENT = `oak: 1
agent: my-agent
title: My first agent

input:
  type: object
  required: [question]
  properties:
    question: {type: string, examples: [May I bring a dog?]}

model: MODEL
brief: You help the guests of a mountain hut. Answer in one or two sentences.
prompt: "\${ input.question }"
`

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
