package decide

// A Carried is an acceptance of a change in another plan that counts in this one, as the change means the
// same there (see plan.Plan.Meaning).
type Carried struct {
	Plan, By, On, Because string // On is a day
}
