"""A performer's motion on a character: angles, plants, reach; and the way back, a foreign skeleton's motion on ours."""
