package docsim

import "go.mongodb.org/mongo-driver/v2/bson"

// lockFiles answers fsync: with lock set, nothing is written to the member's files until
// it was unlocked as often.
func lockFiles(s *session, _ string, req bson.Raw) (bson.D, error) {
	if on, _ := req.Lookup("lock").BooleanOK(); !on {
		return bson.D{}, nil
	}
	s.m.locks++
	return bson.D{{Key: "info", Value: "its files are locked"}, {Key: "lockCount", Value: int64(s.m.locks)}}, nil
}

func unlockFiles(s *session, _ string, _ bson.Raw) (bson.D, error) {
	if s.m.locks == 0 {
		return nil, refuse(20, "IllegalOperation", "its files are not locked")
	}
	s.m.locks--
	s.m.rs.progress()
	return bson.D{{Key: "info", Value: "unlocked"}, {Key: "lockCount", Value: int64(s.m.locks)}}, nil
}

// currentOp answers with what is said of the member as a whole.
func currentOp(s *session, _ string, _ bson.Raw) (bson.D, error) {
	out := bson.D{{Key: "inprog", Value: bson.A{}}}
	if s.m.locks > 0 {
		out = append(out, bson.E{Key: "fsyncLock", Value: true})
	}
	return out, nil
}

// FileLocks returns how often a member's files are locked.
func (rs *ReplicaSet) FileLocks(member int) int {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	return rs.members[member].locks
}

// UnlockFiles has somebody unlock a member's files.
func (rs *ReplicaSet) UnlockFiles(member int) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if m := rs.members[member]; m.locks > 0 {
		m.locks--
		rs.progress()
	}
}
